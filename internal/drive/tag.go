package drive

import (
	"bytes"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"
	"syscall"
	"time"

	"nexlin/internal/handle"
	"nexlin/internal/naming"
)

// Where the drive tag lies, below the directory it identifies.
const (
	RecordDir = naming.RecordDir
	TagFile   = "drive.json"
	tagLimit  = 16 << 10 // bytes; ours has under 300
)

// A Tag is the small file .nexlin/drive.json that identifies a drive, or a
// place on one, wherever it is mounted. Counter grows with each run, so that
// a clone or an old image of the drive can be told from the drive.
type Tag struct {
	Version int       `json:"nexlin"`
	ID      string    `json:"id"`
	Label   string    `json:"label"`
	Made    time.Time `json:"made"`
	Counter int64     `json:"counter"`
}

// ErrTag reports a drive tag that is there and not to be trusted.
var ErrTag = errors.New("the drive tag is damaged or of another version")

// NoTag tells that there is no drive tag, or none that this account may see,
// from a drive that can't be read.
func NoTag(err error) bool {
	return handle.Absent(err) || handle.Missing(err) || errors.Is(err, fs.ErrPermission) ||
		errors.Is(err, handle.ErrNotDir) || errors.Is(err, handle.ErrMount)
}

// ReadTag reads the tag below the directory at path. It is hostile input:
// links are not followed, size and content are checked. fs.ErrNotExist
// means there is none, ErrTag that there is one that can't be used.
func ReadTag(path string) (*Tag, error) {
	d, err := handle.Open(path)
	if err != nil {
		return nil, err
	}
	defer d.Release()
	return ReadTagIn(d)
}

// ReadTagIn is [ReadTag] below an open directory.
func ReadTagIn(d *handle.Dir) (*Tag, error) {
	f, err := d.OpenBeneath(RecordDir + "/" + TagFile)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if st, err := f.Stat(); err != nil || !st.IsRegular() || st.Size > tagLimit {
		return nil, ErrTag
	}
	b, err := io.ReadAll(io.LimitReader(f, tagLimit))
	if err != nil {
		return nil, err
	}
	return parseTag(b)
}

func parseTag(b []byte) (*Tag, error) {
	var t Tag
	dec := json.NewDecoder(bytes.NewReader(b))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&t); err != nil || t.Version != 1 || !validID(t.ID) || t.Counter < 0 || len(t.Label) > 256 {
		return nil, ErrTag
	}
	return &t, nil
}

func validID(s string) bool {
	if len(s) != 36 {
		return false
	}
	for i, c := range s {
		dash := i == 8 || i == 13 || i == 18 || i == 23
		if dash != (c == '-') || !dash && !(c >= '0' && c <= '9' || c >= 'a' && c <= 'f') {
			return false
		}
	}
	return true
}

// NewID makes a random identity (RFC 9562, version 4).
func NewID() string {
	var b [16]byte
	rand.Read(b[:])
	b[6], b[8] = b[6]&0x0f|0x40, b[8]&0x3f|0x80
	return formatUUID(b[:])
}

// WriteTag writes t below d, whole or not at all, and flushes it. The
// record directory is made if it is missing.
func WriteTag(d *handle.Dir, t Tag, by Maker) error {
	rec, err := RecordIn(d, by)
	if err != nil {
		return err
	}
	defer rec.Release()
	return alone(rec, func(mark string) error { return writeTag(rec, &t, mark, by) })
}

func writeTag(rec *handle.Dir, t *Tag, mark string, by Maker) error {
	b, err := json.MarshalIndent(t, "", "  ")
	if err != nil {
		return err
	}
	return writeRecord(rec, TagFile, mark, 0o644, by, bytes.NewReader(append(b, '\n')))
}

// ChangeTag is [WriteTag] for what becomes of the tag that is there, nil if
// there is none, while no other Nexlin writes one. With a nil tag nothing is
// written; an error of change is returned as it is. A damaged tag is [ErrTag].
func ChangeTag(d *handle.Dir, by Maker, change func(now *Tag) (*Tag, error)) error {
	rec, err := RecordIn(d, by)
	if err != nil {
		return err
	}
	defer rec.Release()
	return alone(rec, func(mark string) error {
		now, err := ReadTagIn(d)
		if errors.Is(err, fs.ErrNotExist) {
			now, err = nil, nil
		}
		if err != nil {
			return err
		}
		next, err := change(now)
		if err != nil || next == nil {
			return err
		}
		return writeTag(rec, next, mark, by)
	})
}

// patience is how long one Nexlin waits for another that writes records.
const patience = 10 * time.Second

// alone calls f while no other Nexlin writes into a record directory: mark is
// then a part of temporary names that only a stopped one can have left. Any
// account may hold the lock; after [patience] the name is one of its own instead.
func alone(rec *handle.Dir, f func(mark string) error) error {
	lock, err := rec.Beneath(".")
	if err != nil {
		return err
	}
	defer lock.Release()
	for end := time.Now().Add(patience); ; time.Sleep(5 * time.Millisecond) {
		err := lock.Lock(true)
		if err == nil {
			return f("")
		}
		if !errors.Is(err, syscall.EWOULDBLOCK) || time.Now().After(end) {
			return f(NewID()[:8])
		}
	}
}

// tempRecord is the name that a record has while it is written; a stop leaves it.
func tempRecord(name string) string { return fmt.Sprintf(".%.200s.tmp", name) }

// DropTempRecords removes what a stop has left of writing these records. While another
// Nexlin writes there, nothing is removed.
func DropTempRecords(rec *handle.Dir, names ...string) error {
	return alone(rec, func(mark string) error {
		if mark != "" {
			return nil
		}
		for _, name := range names {
			if err := handle.IgnoreMissing(rec.Unlink(tempRecord(name))); err != nil {
				return err
			}
		}
		return nil
	})
}

// A Maker says for whom records on a drive are made. Owner and Group own
// them; they are ignored unless this account is the administrator.
type Maker struct {
	Owner, Group uint32
	Scratch      string // name of a directory for what is given away, see [handle.Dir.MkdirFor]
	Plain        bool   // the drive keeps no owners
}

// RecordIn opens the record directory below d and makes it if it is
// missing. One that is a link, or another account's, is refused; for an administrator one of
// the administrator's own, too, where d is not: an account may have put it there (I6).
func RecordIn(d *handle.Dir, by Maker) (*handle.Dir, error) {
	rec, err := d.MkdirFor(RecordDir, 0o755, by.Owner, by.Group, by.Scratch, by.Plain)
	if err == nil {
		_ = d.Hide(RecordDir, true) // where a full stop hides nothing; elsewhere there is no such mark
		if err = rec.Sync(); err == nil {
			err = d.Sync()
		}
		if err != nil {
			rec.Release()
		}
		return rec, err
	}
	if !errors.Is(err, fs.ErrExist) {
		return nil, err
	}
	if rec, err = d.Beneath(RecordDir); err != nil {
		return nil, err
	}
	st, err := rec.Self()
	var around handle.Stat
	if err == nil {
		around, err = d.Self()
	}
	me := uint32(os.Geteuid())
	may := by.Plain || st.UID == by.Owner || st.UID == around.UID || me != 0 && (st.UID == me || st.UID == 0)
	if err == nil && !may {
		err = &fs.PathError{Op: "open", Path: rec.Path(),
			Err: fmt.Errorf("belongs to account %d: %w", st.UID, fs.ErrPermission)}
	}
	if err != nil {
		rec.Release()
		return nil, err
	}
	return rec, nil
}

// WriteRecord writes a file below a record directory: under a temporary
// name, flushed, then renamed over the old one, then the directory flushed.
func WriteRecord(rec *handle.Dir, name string, mode uint32, by Maker, content io.Reader) error {
	return alone(rec, func(mark string) error { return writeRecord(rec, name, mark, mode, by, content) })
}

func writeRecord(rec *handle.Dir, name, mark string, mode uint32, by Maker, content io.Reader) (err error) {
	tmp := tempRecord(name + mark)
	if mark == "" {
		if err := handle.IgnoreMissing(rec.Unlink(tmp)); err != nil { // of one that was stopped
			return err
		}
	}
	f, err := rec.Create(tmp, 0o600)
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, handle.IgnoreMissing(rec.Unlink(tmp)))
		}
	}()
	_, err = io.Copy(f, content)
	if err == nil && os.Geteuid() == 0 {
		err = kept(f.Chown(by.Owner, by.Group))
	}
	if err == nil {
		err = kept(f.Chmod(mode))
	}
	if err == nil {
		err = f.Sync()
	}
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	if err = rec.Replace(tmp, rec, name); err != nil {
		return err
	}
	return rec.Sync()
}

// kept passes over that a file system keeps no owners or modes: inspection
// has told what that means for names that are private.
func kept(err error) error {
	if errors.Is(err, syscall.EPERM) || errors.Is(err, syscall.EOPNOTSUPP) || errors.Is(err, syscall.ENOSYS) {
		return nil
	}
	return err
}

// tagged reads the drive tag in the drive's root, if there is one; it lends
// its label to a drive that has none.
func (d *Drive) tagged() {
	tag, err := ReadTag(d.root())
	if err != nil {
		return
	}
	d.Tag = tag
	if d.Label == "" {
		d.Label = tag.Label
	}
}

// formatUUID prints 16 bytes as RFC 9562 does; all zero is no identity.
func formatUUID(b []byte) string {
	h := hex.EncodeToString(b[:16])
	if strings.Trim(h, "0") == "" {
		return ""
	}
	return h[:8] + "-" + h[8:12] + "-" + h[12:16] + "-" + h[16:20] + "-" + h[20:]
}
