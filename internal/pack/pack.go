// Package pack makes one verified file of a folder, and a folder of it again.
package pack

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"os"
	"path/filepath"
	"time"

	"nexlin/internal/account"
	"nexlin/internal/archive"
	"nexlin/internal/engine"
	"nexlin/internal/execute"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/inventory"
	"nexlin/internal/ledger"
	"nexlin/internal/naming"
	"nexlin/internal/pathtext"
	"nexlin/internal/places"
	"nexlin/internal/plan"
	"nexlin/internal/planning"
	"nexlin/internal/preflight"
	"nexlin/internal/swap"
)

// Options says what is packed or unpacked where. Paths are absolute.
type Options struct {
	Folder     string // pack: the folder, no link to it
	Name       string // pack: the redirect that it is the target of; empty: of none
	File       string // the archive
	Into       string // unpack: the directory that the folder goes into
	As         string // unpack: its name there; empty: the one in the archive
	WhileInUse bool
	Accept     []finding.Code
	Progress   func(entries, bytes int64) // of the inspection; may be nil
}

// PlanPack inspects a pack and changes nothing. Like [redirect.PlanMove] it
// returns all findings in the plan.
func PlanPack(ctx context.Context, e *engine.Engine, o Options) (*plan.Plan, error) {
	now := time.Now()
	p := &plan.Plan{
		Header: plan.Header{Run: ledger.NewRunID(now), Kind: plan.KindPack, Made: now, Name: o.Name,
			Accepted: o.Accept},
		Route: plan.Route{Link: o.Folder, From: o.Folder, Into: places.ResolvedDir(filepath.Dir(o.File)),
			Final: filepath.Base(o.File)},
		Copying: plan.Copying{WhileInUse: o.WhileInUse},
	}
	p.Target = p.Copy()
	if o.Name == "" {
		p.Name = "-" + naming.Default(filepath.Base(o.Folder)) // no redirect has such a name
	}
	if o.Name != "" {
		r, err := e.Ledger.Redirect(o.Name)
		if err != nil {
			return nil, err
		}
		if err := planning.CheckPresent(e, p, r.Drive, r.Target); err != nil || len(p.Findings) > 0 {
			return p, err
		}
	}
	if err := p.ByOthersLinks(o.Folder, preflight.Above(o.File)); err != nil {
		return nil, err
	}
	if err := findPacked(ctx, e, p, o.Progress); err != nil {
		return nil, err
	}
	dir, err := findOutDir(e, p)
	if err != nil || dir == nil {
		return p, err
	}
	defer dir.Release()
	if _, err := dir.Stat(p.Final); err == nil {
		p.Add(finding.New(finding.TargetTaken, o.File, "%s exists already",
			o.File).Instead("name another file, or set that one aside"))
	}
	if pathtext.Within(p.Into, o.Folder) {
		p.Add(finding.New(finding.TargetInSource, o.File, "the archive would lie in the folder itself"))
	}
	if p.FromNow.Mount != "" && p.FromNow.Mount == p.IntoNow.Mount {
		p.Add(finding.New(finding.PackSameDrive, o.File, "the archive would lie on %s, as the folder does",
			p.IntoNow.Name()))
	}
	if short := p.IntoNow.Short(p.Bytes); short > 0 {
		p.Add(finding.New(finding.SpaceShort, o.File, "%s has %s free, and the folder has %s: it fits only if it "+
			"becomes smaller in the archive", p.IntoNow.Name(), pathtext.Size(p.IntoNow.Free),
			pathtext.Size(p.Bytes)).As(finding.Warning).
			Instead("nothing is lost if it does not fit: the archive is taken away again"))
	}
	p.AcceptFound(o.Accept)
	return p, nil
}

// findPacked looks at the folder that is to be packed.
func findPacked(ctx context.Context, e *engine.Engine, p *plan.Plan, progress func(entries, bytes int64)) error {
	path := p.From
	root, err := handle.OpenReal(path)
	if handle.Absent(err) {
		p.Add(finding.New(finding.SourceMissing, path, "there is no folder at %s", path))
		return nil
	}
	if err != nil {
		return err
	}
	defer root.Release()
	st, err := root.Self()
	if err != nil {
		return err
	}
	p.FromIno, p.UID, p.GID, p.Account = st.Ino, st.UID, st.GID, account.Name(st.UID)
	if p.FromNow, err = e.Drives.Of(path); err != nil {
		return err
	}
	p.FromDrive = places.Ref(&p.FromNow)
	if err := planning.CheckOwners(p, root); err != nil {
		return err
	}
	p.Facts, err = preflight.Measure(ctx, root, inventory.Options{Block: 4096, Progress: progress,
		Scratch: e.Ledger.Dir()})
	if err != nil {
		return err
	}
	p.Files, p.Bytes, p.Allocated, p.Entries = p.Facts.Files, p.Facts.Bytes, p.Facts.Allocated, p.Facts.Entries()
	p.Add(preflight.Entries(p.From, finding.Unreadable, p.Facts.Unreadable, "can't be read by this account")...)
	p.Add(preflight.Entries(p.From, finding.MountInside, p.Facts.Mounts,
		"are other file systems mounted inside the folder")...)
	return planning.CheckUsers(ctx, p)
}

// findOutDir opens the directory that an archive or a folder is to be made in; nil
// with a finding if that can't be.
func findOutDir(e *engine.Engine, p *plan.Plan) (dir *handle.Dir, err error) {
	into := p.Into
	if free, err := planning.CheckNotOurs(e, p); !free || err != nil {
		return nil, err
	}
	if well, err := e.CheckExpected(p, into, p.Copy()); !well || err != nil {
		return nil, err
	}
	dir, err = handle.OpenReal(into)
	if err != nil {
		p.Add(finding.New(finding.TargetNoWrite, into, "%s can't be used: %v", into, handle.Cause(err)))
		return nil, nil
	}
	if err = planning.CheckOwners(p, dir); err == nil {
		p.IntoNow, err = e.Drives.Of(into)
	}
	if err != nil {
		dir.Release()
		return nil, err
	}
	p.IntoDrive = places.Ref(&p.IntoNow)
	if dir.Access(".", handle.MayWrite|handle.MayEnter) != nil {
		p.Add(finding.New(finding.TargetNoWrite, into, "this account may not write in %s", into))
	}
	return dir, nil
}

// A packing makes an archive, or reads one.
type packing struct {
	execute.Basics
	placed bool // what is made may have its name
}

// Open takes the handles of a pack or an unpack.
func (m *packing) Open() error {
	if err := m.CheckDrive(m.Plan.Into, m.Plan.IntoDrive); err != nil {
		return err
	}
	var err error
	m.Into, err = m.OpenReal(m.Plan.Into)
	return err
}

// dropPart takes away what the run was making. It is known by its inode: whoever
// may write in that directory could have put something else under its name, and
// what is not known is left (I6). What was given to an account already is that
// account's hands, and is left, too.
func (m *packing) dropPart() error {
	name := naming.Part(m.Plan.Run)
	st, err := m.Into.Stat(name)
	if err != nil {
		return handle.IgnoreMissing(err)
	}
	var made execute.Placement
	known, err := m.Last("part-made", &made)
	if err != nil {
		return err
	}
	ours := known && made.Ino == st.Ino
	switch {
	case st.IsDir() && ours:
		err = m.clearPart(name, &st)
	case st.IsDir():
		err = execute.RmdirIfEmpty(m.Into, name)
	case ours || st.IsRegular() && st.Size == 0: // created, and not noted yet
		err = m.removeSeen(name, &st)
	}
	return handle.Flushed(err, m.Into)
}

func (m *packing) clearPart(name string, st *handle.Stat) error {
	d, err := m.Into.Beneath(name)
	if err != nil {
		return err
	}
	defer d.Release()
	now, err := d.Self()
	if err != nil {
		return err
	}
	if now.SameInode(st) && (os.Geteuid() != 0 || now.AdministratorsAlone()) {
		if err := archive.Clear(d); err != nil {
			return err
		}
	}
	return execute.RmdirIfEmpty(m.Into, name)
}

// removeSeen removes a file that was looked at, and no other: an administrator
// looks at it again where nobody can exchange it.
func (m *packing) removeSeen(name string, st *handle.Stat) error {
	if os.Geteuid() != 0 {
		return handle.IgnoreMissing(m.Into.Unlink(name))
	}
	err := m.Into.RemoveSeen(name, st, naming.Scratch(m.Plan.Run))
	if errors.Is(err, handle.ErrReplaced) {
		return nil // somebody else's by now: it stays
	}
	return handle.IgnoreMissing(err)
}

// notePart writes down by what the part is known again.
func (m *packing) notePart(st *handle.Stat) error {
	seq, err := m.Run.Intend("part-made", execute.Placement{Part: naming.Part(m.Plan.Run), Ino: st.Ino})
	if err != nil {
		return err
	}
	return m.Run.Did(seq, nil)
}

// progress passes on how far an archive got.
func (m *packing) progress() archive.Progress {
	if m.Progress == nil {
		return nil
	}
	var was archive.Count
	return func(files, bytes int64) {
		m.Progress.Advance(files-was.Files, bytes-was.Bytes)
		was = archive.Count{Files: files, Bytes: bytes}
	}
}

const packManifest = "packed.mtree"

// pack writes the archive under a name of its own, reads it back to its end,
// and gives it its name.
func (m *packing) pack(ctx context.Context) error {
	if err := m.dropPart(); err != nil { // of a run that was stopped
		return err
	}
	root, err := m.OpenReal(m.Plan.From)
	if err != nil {
		return err
	}
	defer root.Release()
	st, err := root.Self()
	if err != nil {
		return err
	}
	if st.Ino != m.Plan.FromIno {
		return swap.Broken(m.Plan.From, "another folder stands there than at inspection")
	}
	if err := root.SyncAll(); err != nil { // mapped writes show in times only then
		return err
	}
	list := filepath.Join(m.Run.Dir(), packManifest)
	if err := m.Begin("describe", m.Plan.Files, m.Plan.Bytes); err != nil {
		return err
	}
	if _, err := archive.Describe(ctx, root, list, m.Run.Dir(), m.progress()); err != nil {
		return err
	}
	if err := m.Begin("pack", m.Plan.Files, m.Plan.Bytes); err != nil {
		return err
	}
	a := &plan.Archive{File: m.Out.Copy()}
	if err := m.Act(ctx, "pack", naming.Part(m.Plan.Run), func() error { return m.writeArchive(ctx, root, list, a) },
		nil); err != nil {
		return err
	}
	if err := m.Begin("read back", m.Plan.Files, m.Plan.Bytes); err != nil {
		return err
	}
	if err := m.readArchive(ctx, a); err != nil {
		return err
	}
	err = m.Act(ctx, "place", m.Out.Final, func() error { return m.placeMade(&a.Made) }, nil)
	if err != nil {
		return err
	}
	if err := m.End(ledger.Done); err != nil {
		return err
	}
	m.Out.Archive, m.Out.Verified = a, a.Count
	err = m.Run.Set(ledger.Done, "", m.addPack(a))
	m.MeasureAfter()
	return err
}

// placeMade gives what was made its name, never replacing anything, and wants it
// to be what stands there then: whoever may write in that directory could have
// exchanged the two (I6).
func (m *packing) placeMade(made *handle.Stat) error {
	if err := m.Into.Rename(naming.Part(m.Plan.Run), m.Into, m.Out.Final); err != nil {
		return err
	}
	now, err := m.Into.Stat(m.Out.Final)
	if err == nil && !now.SameInode(made) {
		err = swap.Broken(m.Out.Copy(), "something else was put in the place of what was made")
	}
	if err != nil {
		return err
	}
	return m.Into.Sync()
}

func (m *packing) writeArchive(ctx context.Context, root *handle.Dir, list string, a *plan.Archive) (err error) {
	f, err := m.Into.Create(naming.Part(m.Plan.Run), 0o600)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	if a.Made, err = f.Stat(); err != nil {
		return err
	}
	if err := m.notePart(&a.Made); err != nil {
		return err
	}
	sum := sha256.New()
	w := &archive.Counter{W: io.MultiWriter(f, sum)}
	n, err := archive.Pack(ctx, root, filepath.Base(m.Plan.From), list, w, m.progress())
	if err != nil {
		return err
	}
	// It goes to the account whose folder it is, unless there is something in it
	// that is not that account's own to read.
	if os.Geteuid() == 0 && m.Plan.UID != 0 {
		own, err := archive.AllOf(list, m.Plan.UID)
		if err != nil {
			return err
		}
		if own {
			err = f.Chown(m.Plan.UID, m.Plan.GID)
		} else {
			m.Out.Findings = append(m.Out.Findings,
				finding.New(finding.ArchiveKept, m.Out.Copy(), "%s holds entries of other accounts than %s, so the "+
					"archive belongs to the administrator and is readable by nobody else", m.Plan.From,
					m.Plan.Account).Named(m.Plan.Name))
		}
		if err != nil && !errors.Is(err, os.ErrPermission) {
			return err
		}
	}
	a.Count, a.Bytes, a.Digest = plan.Count{Files: n.Files, Bytes: n.Bytes}, w.N, hex.EncodeToString(sum.Sum(nil))
	return f.Sync()
}

// readArchive reads the archive back from the drive, to its end, and wants
// every byte of it to be the one that was written.
func (m *packing) readArchive(ctx context.Context, a *plan.Archive) error {
	f, err := m.Into.OpenFile(naming.Part(m.Plan.Run))
	if err != nil {
		return err
	}
	defer f.Close()
	now, err := f.Stat()
	if err != nil {
		return err
	}
	if !now.SameInode(&a.Made) {
		return swap.Broken(m.Into.Join(naming.Part(m.Plan.Run)), "something else was put in the place of the archive")
	}
	m.Out.Device = f.Uncache(0, 0)
	_, n, digest, err := m.readWhole(ctx, f, readManifest, nil)
	if err == nil && (digest != a.Digest || n.Files != a.Count.Files) {
		err = &archive.DamageError{What: "it reads back otherwise than it was written"}
	}
	return err
}

// readManifest is where the manifest of an archive lies while it is read back.
const readManifest = "read.mtree"

// readWhole reads an archive to its end, and what is behind that: all of it counts
// for the digest that it gives. The manifest in it is kept under the name list
// among the run's records; maker, which may be nil, gets the entries.
func (m *packing) readWhole(ctx context.Context, f io.Reader, list string, maker archive.Maker) (top string,
	n archive.Count, digest string, err error) {
	sum := sha256.New()
	in := io.TeeReader(f, sum)
	top, n, err = archive.Read(ctx, in, filepath.Join(m.Run.Dir(), list), maker, m.progress())
	if err == nil {
		_, err = io.Copy(io.Discard, in)
	}
	return top, n, hex.EncodeToString(sum.Sum(nil)), err
}

// PlanUnpack inspects an unpack and changes nothing. What is in the archive is
// read only when it is unpacked.
func PlanUnpack(e *engine.Engine, o Options) (*plan.Plan, error) {
	now := time.Now()
	p := &plan.Plan{
		Header: plan.Header{Run: ledger.NewRunID(now), Kind: plan.KindUnpack, Made: now,
			Name: "-" + naming.Default(filepath.Base(o.File)), Accepted: o.Accept},
		Route: plan.Route{Link: o.File, From: o.File, Into: places.ResolvedDir(o.Into), Final: o.As},
	}
	if err := p.ByOthersLinks(o.File, o.Into); err != nil {
		return nil, err
	}
	st, err := os.Stat(o.File)
	switch {
	case handle.Missing(err):
		p.Add(finding.New(finding.SourceMissing, o.File, "there is no archive at %s", o.File))
	case err != nil:
		return nil, err
	case !st.Mode().IsRegular():
		p.Add(finding.New(finding.SourceMissing, o.File, "%s is no file", o.File))
	default:
		p.Bytes = st.Size()
	}
	dir, err := findOutDir(e, p)
	if err != nil || dir == nil {
		return p, err
	}
	defer dir.Release()
	if o.As != "" {
		if _, err := dir.Stat(o.As); err == nil {
			p.Add(finding.New(finding.TargetTaken, p.Copy(), "%s exists already", p.Copy()))
		}
	}
	p.AcceptFound(o.Accept)
	return p, nil
}

func (m *packing) unpack(ctx context.Context) error {
	if err := m.dropPart(); err != nil {
		return err
	}
	in, err := m.openArchive()
	if err != nil {
		return err
	}
	defer in.Close()
	limit, vouched, err := m.limitFor(ctx, in)
	if err != nil {
		return err
	}
	if err := m.Begin("unpack", 0, 0); err != nil {
		return err
	}
	a, top := &plan.Archive{File: m.Plan.From}, ""
	err = m.Act(ctx, "unpack", naming.Part(m.Plan.Run), func() (err error) {
		top, err = m.unpackPart(ctx, in, a, limit, vouched)
		return err
	}, nil)
	if err != nil {
		return err
	}
	if m.Out.Final == "" {
		m.Out.Final = top
	}
	if free, err := m.mayPlace(); !free || err != nil {
		return err
	}
	err = m.Act(ctx, "place", m.Out.Final, func() error { return m.placeMade(&a.Made) }, nil)
	if errors.Is(err, os.ErrExist) {
		return plan.Refused(finding.New(finding.TargetTaken, m.Out.Copy(), "%s exists already",
			m.Out.Copy()).Instead("`--as` gives the folder another name"))
	}
	if err != nil {
		return err
	}
	if err := m.End(ledger.Done); err != nil {
		return err
	}
	m.Out.Archive, m.Out.Verified = a, a.Count
	return m.Run.Set(ledger.Done, "", nil)
}

// unpackPart makes what is in an archive below a new part and reads it back. limit is
// what may be made, vouched the digest that the ledger knows of the archive, empty if
// none. It gives the name of the folder in the archive.
func (m *packing) unpackPart(ctx context.Context, in *handle.File, a *plan.Archive, limit *archive.Limit,
	vouched string) (top string, err error) {
	root, err := m.makePart(&a.Made)
	if err != nil {
		return "", err
	}
	defer root.Release()
	build := archive.NewBuilder(ctx, root)
	build.Room, build.Limit = m.roomFor, limit
	defer build.Close()
	var n archive.Count
	if top, n, a.Digest, err = m.readWhole(ctx, in, packManifest, build); err != nil {
		return "", err
	}
	a.Count = plan.Count{Files: n.Files, Bytes: n.Bytes}
	if vouched != "" && a.Digest != vouched {
		return "", &archive.DamageError{What: "it was changed while it was read"}
	}
	err = handle.InOrder(build.Finish, root.SyncAll, func() error { return m.Begin("read back", n.Files, n.Bytes) },
		func() error {
			_, err := build.Verify(ctx, filepath.Join(m.Run.Dir(), packManifest), m.progress())
			return err
		}, build.FinishRoot, root.Sync) // from the last but one on it may be in an account's hands
	a.Flaws, a.Lost = build.Flaws, build.Count
	return top, err
}

// roomFor wants room on the target's drive for so many bytes more.
func (m *packing) roomFor(bytes int64) error {
	d := m.Plan.IntoNow
	if d.Mount == "" {
		return nil
	}
	if err := m.Drives.Refresh(&d); err != nil {
		return err
	}
	if d.Free-bytes >= d.Reserve() {
		return nil
	}
	return plan.Refused(finding.New(finding.SpaceShort, m.Plan.Into, "%s has too little room for "+
		"what is in the archive: %s more are needed, and a reserve of %s; free %s", d.Name(), pathtext.Size(bytes),
		pathtext.Size(d.Reserve()), pathtext.Size(d.Free)).OnDrive(d.Name()))
}

// mayPlace refuses a name that is Nexlin's own for what an archive holds.
func (m *packing) mayPlace() (bool, error) {
	ours, err := m.Ours()
	if err != nil || !ours(m.Out.Copy()) {
		return err == nil, err
	}
	return false, plan.Refused(finding.New(finding.Protected, m.Out.Copy(), "%s %s", m.Out.Copy(),
		places.IsOurs).Instead("`--as` gives the folder another name"))
}

// makePart makes the directory that an archive is unpacked into: this account's
// own, which nobody else may enter, without the rights that the directory around
// it would hand down. made is by what it is known again; it is noted before anything is
// made in it.
func (m *packing) makePart(made *handle.Stat) (*handle.Dir, error) {
	name := naming.Part(m.Plan.Run)
	if err := m.Into.Mkdir(name, 0o700); err != nil {
		return nil, err
	}
	root, err := m.Into.Beneath(name)
	if err != nil {
		return nil, err
	}
	names, err := root.Names()
	same := len(names) == 0
	if err == nil {
		err = root.DropInherited()
	}
	if err == nil {
		*made, err = root.Self()
	}
	if err == nil && same {
		if err = m.notePart(made); err == nil {
			same, err = ownerAlike(root)
		}
		if err == nil && !same { // what comes to lie in it is not known
			err = m.notePart(&handle.Stat{})
		}
	}
	if err == nil && !same {
		err = swap.Broken(root.Path(), "another directory was put in the place of the one that this run made")
	}
	if err != nil {
		root.Release()
		return nil, err
	}
	return root, nil
}

// ownerAlike reports whether a directory belongs to whom an entry belongs that
// this account makes in it: to this account, or, where the file system keeps no
// owners, to whom everything belongs.
func ownerAlike(d *handle.Dir) (bool, error) {
	f, err := d.Create(handle.InPrivate, 0o600)
	if err != nil {
		return false, err
	}
	made, err := f.Stat()
	if err = errors.Join(err, f.Close(), d.Unlink(handle.InPrivate)); err != nil {
		return false, err
	}
	st, err := d.Self()
	return st.UID == made.UID, err
}

// placedAlready reports whether a pack or an unpack that was stopped had come
// to its end: what it made last has its name, and is the person's.
func (m *packing) placedAlready() (bool, error) {
	var final string
	known, err := m.Last("place", &final)
	if err != nil || !known {
		return false, err
	}
	var made execute.Placement
	if known, err = m.Last("part-made", &made); err != nil || !known {
		return false, err
	}
	if _, err := m.Into.Stat(naming.Part(m.Plan.Run)); !handle.Missing(err) {
		return false, err
	}
	st, err := m.Into.Stat(final)
	if err != nil {
		return false, handle.IgnoreMissing(err)
	}
	// Where inode numbers change with every mount, the name has to do: nothing had
	// it when the run began.
	if st.Ino != made.Ino && !m.Plan.IntoUnstable() {
		return false, nil
	}
	m.Out.Final = final
	return true, nil
}

// Forward packs or unpacks.
func (m *packing) Forward(ctx context.Context) error {
	if m.Plan.Unpacks() {
		return m.unpackOn(ctx)
	}
	return m.packOn(ctx)
}

// Ended leaves nothing of an archive, or of what was read from one, that did not
// become whole. What has its name already is whole, and resume finishes the run.
func (m *packing) Ended(err error) error {
	if err == nil {
		return m.SetStopped(nil)
	}
	if lerr := m.look(); m.placed {
		return m.SetStopped(errors.Join(err, lerr))
	}
	if gone := m.dropPart(); gone != nil {
		return m.SetStopped(errors.Join(err, gone))
	}
	m.Out.State = ledger.Undone
	return errors.Join(err, m.Run.Set(ledger.Undone, err.Error(), nil))
}

// packOn packs, from the start where it was stopped, unless it was at its end.
func (m *packing) packOn(ctx context.Context) error {
	if err := m.look(); err != nil {
		return err
	}
	if m.placed {
		return m.packedAgain(ctx)
	}
	return m.pack(ctx)
}

// unpackOn is [packing.packOn] the other way.
func (m *packing) unpackOn(ctx context.Context) error {
	if err := m.look(); err != nil {
		return err
	}
	if m.placed {
		return m.Run.Set(ledger.Done, "", nil)
	}
	return m.unpack(ctx)
}

// look looks whether what is made has its name already.
func (m *packing) look() (err error) {
	m.placed, err = m.placedAlready()
	m.placed = m.placed || err != nil // then it may have
	return err
}

// packedAgain reads an archive back that had its name when the run was stopped,
// and takes it into the ledger.
func (m *packing) packedAgain(ctx context.Context) error {
	if err := m.Begin("read back", m.Plan.Files, m.Plan.Bytes); err != nil {
		return err
	}
	f, err := m.Into.OpenFile(m.Out.Final)
	if err != nil {
		return err
	}
	defer f.Close()
	m.Out.Device = f.Uncache(0, 0)
	st, err := f.Stat()
	if err != nil {
		return err
	}
	_, n, digest, err := m.readWhole(ctx, f, readManifest, nil)
	if err == nil {
		err = m.End(ledger.Done)
	}
	if err != nil {
		return err
	}
	a := &plan.Archive{File: m.Out.Copy(), Count: plan.Count{Files: n.Files, Bytes: n.Bytes}, Bytes: st.Size,
		Digest: digest}
	m.Out.Archive, m.Out.Verified = a, a.Count
	return m.Run.Set(ledger.Done, "", m.addPack(a))
}

// addPack has the ledger know an archive that was verified.
func (m *packing) addPack(a *plan.Archive) func(*ledger.Tx) error {
	return func(t *ledger.Tx) error {
		return t.AddPack(ledger.Pack{Redirect: m.Plan.Name, Folder: m.Plan.From, File: a.File, Bytes: a.Bytes,
			Files: a.Count.Files, Digest: a.Digest, Made: time.Now(), Run: m.Plan.Run})
	}
}

// Back takes away what a pack or an unpack that was stopped had made. What
// has its name already stays.
func (m *packing) Back(context.Context) error {
	if done, err := m.placedAlready(); err != nil {
		return err
	} else if done {
		m.Out.Stays = m.Out.Copy()
	}
	if err := m.dropPart(); err != nil {
		return err
	}
	return m.Run.Set(ledger.Undone, "", nil)
}

// Packing is the job of a pack or an unpack.
func Packing(m *execute.Execution) execute.Job { return &packing{Basics: execute.Basics{Execution: m}} }
