//go:build linux

package drive

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nexlin/internal/handle"
	"nexlin/test/lab"
)

// The kernel answers for each file system; what it says is what the tools
// that made it say.
func TestIdentityOfRealDrives(t *testing.T) {
	for kind, mib := range map[string]int64{"ext4": 16, "xfs": 320, "btrfs": 256} {
		t.Run(kind, func(t *testing.T) {
			at := lab.Drive(t, kind, "KESTREL", mib)
			d, err := (&System{}).Of(filepath.Join(at, "not", "there"))
			require.NoError(t, err)
			require.Equal(t, "KESTREL", d.Label)
			require.Equal(t, kind, d.FS)
			require.Equal(t, at, d.Mount)
			require.True(t, d.Loop)
			want := strings.TrimSpace(lab.Run(t, "blkid", "-p", "-o", "value", "-s", "UUID", d.Source))
			require.Equal(t, want, d.UUID)
			require.Equal(t, want, d.ID())
			s := &System{}
			for _, ref := range []string{"KESTREL", "UUID=" + want, at} {
				found, err := s.Find(ref)
				require.NoError(t, err)
				require.Equal(t, at, found.Mount)
			}
			p, err := s.Place("KESTREL:/a/../../b", "/")
			require.NoError(t, err)
			require.Equal(t, filepath.Join(at, "b"), p, "a reference can't lead out of its drive")
			dir, err := handle.Open(at)
			require.NoError(t, err)
			defer dir.Release()
			before := lab.Print(t, at)
			a, err := Try(dir)
			require.NoError(t, err)
			able := Abilities{
				Symlinks: true, HardLinks: true, Nodes: true, Devices: true, Modes: true, Owners: true, Xattrs: true,
				ACLs:     true,
				Exchange: true, CaseSeen: true, Holes: true, NameBytes: 255, TimeStep: 1,
				FileMode: 0o600, DirMode: 0o700, Oldest: a.Oldest, Newest: a.Newest, LinkBytes: 4095,
				XattrBytes: a.XattrBytes,
			}
			if kind != "btrfs" {
				able.LinkBytes = 1023 // ext4 on a small drive has blocks of 1 KiB
			}
			require.Equal(t, able, a)
			least := map[string]int{"ext4": 800, "xfs": 60 << 10, "btrfs": 15 << 10}[kind]
			require.True(t, a.XattrBytes >= least && a.XattrBytes < 2*least, "%d", a.XattrBytes)
			require.LessOrEqual(t, a.Oldest, int64(0))
			require.GreaterOrEqual(t, a.Newest, int64(1<<31))
			require.Equal(t, before, lab.Print(t, at), "the trial leaves no trace")
			// A second drive of the same name is ambiguous, and both are told.
			lab.Drive(t, "ext4", "KESTREL", 16)
			var many *NotFoundError
			_, err = s.Find("KESTREL")
			require.ErrorAs(t, err, &many)
			require.Len(t, many.Several, 2)
		})
	}
}

func TestTrialOnALimitedFileSystem(t *testing.T) {
	lab.Root(t)
	at := t.TempDir()
	lab.Mount(t, at, "-t", "tmpfs", "-o", "size=1M,nr_inodes=3", "none")
	dir, err := handle.Open(at)
	require.NoError(t, err)
	defer dir.Release()
	_, err = Try(dir)
	require.Error(t, err, "no room is a fault of the drive, not an inability")
	names, err := dir.Names()
	require.NoError(t, err)
	require.Empty(t, names)
}

// What a trial that was killed has left is used and taken away by the next one;
// one that is going on is let alone, and so is what is somebody else's.
func TestTrialClearsWhatAKilledOneLeft(t *testing.T) {
	at := t.TempDir()
	dir, err := handle.Open(at)
	require.NoError(t, err)
	defer dir.Release()
	lab.Tree{TrialName + "0/a: 1", TrialName + "0/empty/", TrialName + "0/" + trialMark + ": x",
		TrialName + "2/a: of another directory that was put there"}.Make(t, at)
	require.NoError(t, os.WriteFile(filepath.Join(at, TrialName+"1"), []byte("a person's"), 0o600))
	require.NoError(t, InTrial(dir, func(first *handle.Dir) error {
		names, err := first.Names()
		require.NoError(t, err)
		require.Equal(t, []string{trialMark}, names)
		return InTrial(dir, func(second *handle.Dir) error {
			require.NotEqual(t, first.Path(), second.Path())
			return nil
		})
	}))
	_, err = Try(dir)
	require.NoError(t, err)
	names, err := dir.Names()
	require.NoError(t, err)
	require.Equal(t, []string{TrialName + "1", TrialName + "2"}, names)
	require.NoError(t, DropTrials(dir))
	require.FileExists(t, filepath.Join(at, TrialName+"2/a"))
}

// What fails in a trial leaves nothing behind, and keeps its mark as long as something is left.
func TestTrialThatFails(t *testing.T) {
	at := t.TempDir()
	dir, err := handle.Open(at)
	require.NoError(t, err)
	defer dir.Release()
	failed := errors.New("it failed")
	lasting := filepath.Join(at, TrialName+"0", "full")
	require.ErrorIs(t, InTrial(dir, func(t *handle.Dir) error {
		return errors.Join(os.WriteFile(filepath.Join(t.Path(), "a"), []byte("1"), 0o600), failed)
	}), failed)
	names, err := dir.Names()
	require.NoError(t, err)
	require.Empty(t, names)
	require.Error(t, InTrial(dir, func(*handle.Dir) error { return os.MkdirAll(filepath.Join(lasting, "x"), 0o700) }))
	require.FileExists(t, filepath.Join(at, TrialName+"0", trialMark), "it is known for a trial")
	require.NoError(t, os.Remove(filepath.Join(lasting, "x")))
	require.NoError(t, InTrial(dir, func(*handle.Dir) error { return nil }))
	names, err = dir.Names()
	require.NoError(t, err)
	require.Empty(t, names)
}

func TestTags(t *testing.T) {
	dir := t.TempDir()
	_, err := ReadTag(dir)
	require.ErrorIs(t, err, os.ErrNotExist)
	d, err := handle.Open(dir)
	require.NoError(t, err)
	defer d.Release()
	want := Tag{Version: 1, ID: NewID(), Label: "BASALT", Made: time.Now().UTC().Truncate(time.Second), Counter: 3}
	require.NoError(t, WriteTag(d, want, Maker{Owner: uint32(os.Geteuid()), Group: uint32(os.Getegid())}))
	got, err := ReadTag(dir)
	require.NoError(t, err)
	require.Equal(t, want, *got)
	file := filepath.Join(dir, RecordDir, TagFile)
	for what, text := range map[string]string{
		"empty": "", "no id": `{"nexlin":1}`, "unknown key": strings.Replace(mustRead(t, file), "{", `{"x":1,`, 1),
		"version": strings.Replace(mustRead(t, file), `"nexlin": 1`, `"nexlin": 2`, 1),
		"huge":    strings.Repeat(" ", tagLimit+1),
	} {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
		_, err := ReadTag(dir)
		require.ErrorIs(t, err, ErrTag, what)
	}
	// A link in the tag's place is not followed.
	require.NoError(t, os.Rename(file, filepath.Join(dir, "tag")))
	require.NoError(t, os.Symlink("../tag", file))
	_, err = ReadTag(dir)
	require.Error(t, err)
}

func mustRead(t *testing.T, path string) string {
	t.Helper()
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	return string(b)
}

func FuzzTag(f *testing.F) {
	f.Add(
		[]byte(
			`{"nexlin":1,"id":"2f6c1d52-0f0e-4a37-9a53-2d1f0c9b7a10","label":"x","made":"2026-01-01T00:00:00Z","counter":1}`))
	f.Fuzz(func(t *testing.T, b []byte) {
		if tag, err := parseTag(b); err == nil {
			require.True(t, validID(tag.ID) && tag.Counter >= 0 && tag.Version == 1)
		}
	})
}

func TestStandins(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "drives.yaml")
	lab.Tree{"basalt/a: 1", "basalt/deep/b: 2", "elsewhere/"}.Make(t, dir)
	require.NoError(t, os.WriteFile(file, []byte("drives:\n"+
		"  - {label: BASALT, id: ba5a17c0-77d2-4f5b-9c11-0b0a57a1e002, path: basalt, capacity: 1 MiB}\n"+
		"  - {label: DUNE, id: d00de5e0-3b1c-4a86-a7d4-0b0a57a1e003, path: dune, capacity: 2 MiB}\n"), 0o644))
	s, err := WithStandins(file)
	require.NoError(t, err)
	all, err := s.List(false)
	require.NoError(t, err)
	require.Len(t, all, 1, "DUNE is away")
	d, err := s.Of(filepath.Join(dir, "basalt", "new"))
	require.NoError(t, err)
	require.EqualValues(t, 1<<20, d.Size)
	require.EqualValues(t, 1<<20-4*standinBlock, d.Free)
	require.Equal(t, "BASALT:/deep/b", d.Display(filepath.Join(dir, "basalt", "deep", "b")))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "basalt", "c"), make([]byte, 5000), 0o644))
	require.NoError(t, s.Refresh(&d))
	require.EqualValues(t, 1<<20-6*standinBlock, d.Free)
	other, err := s.Of(filepath.Join(dir, "elsewhere"))
	require.NoError(t, err)
	require.False(t, other.Same(&d))
	for _, bad := range []string{"drives: [{label: X}]", "drives: 3", "what: 1",
		"drives: [{label: X, id: 1, path: p, capacity: many}]"} {
		require.NoError(t, os.WriteFile(file, []byte(bad), 0o644))
		_, err := WithStandins(file)
		require.Error(t, err, bad)
	}
}

func TestExpectedMountPoints(t *testing.T) {
	fstab := filepath.Join(t.TempDir(), "fstab")
	require.NoError(t, os.WriteFile(fstab, []byte("# x\nUUID=1 / ext4 defaults 0 1\nUUID=2 /mnt/my\\040drive ext4 "+
		"noauto 0 0\nUUID=3 none swap sw 0 0\n"), 0o644))
	never := func(string) bool { return false }
	require.Equal(t, "/mnt/my drive", Expected("/mnt/my drive/ines", fstab, never))
	require.Equal(t, "/mnt/my drive", Expected("/mnt/my drive", fstab, never))
	require.Empty(t, Expected("/mnt/my drives", fstab, never))
	require.Empty(t, Expected("/mnt/my drive/ines", fstab, func(string) bool { return true }))
	require.Empty(t, Expected("/x", filepath.Join(t.TempDir(), "none"), never))
}

func TestExisting(t *testing.T) {
	dir := t.TempDir()
	lab.Tree{"a/", "dangling => nowhere", "file: 1"}.Make(t, dir)
	got, err := Existing(filepath.Join(dir, "a", "b", "c"))
	require.NoError(t, err)
	require.Equal(t, filepath.Join(dir, "a"), got)
	for _, bad := range []string{"dangling/x", "file/x"} {
		_, err := Existing(filepath.Join(dir, bad))
		require.Error(t, err, "nothing can be made below %s", bad)
		require.False(t, errors.Is(err, ErrNoDrive))
	}
}

func TestAtStart(t *testing.T) {
	etc := t.TempDir()
	lab.Tree{
		"fstab: UUID=aaaa /mnt/a ext4 defaults 0 2\nLABEL=BASALT /mnt/b ext4 noauto 0 2\nUUID=cccc /mnt/c ext4 " +
			"noauto,x-systemd.automount 0 2\nUUID=other /mnt/d ext4 defaults 0 2\n",
		"systemd/system/multi-user.target.wants/mnt-e.mount: [Mount]\nWhat=/dev/sdb1\nWhere = /mnt/e/\n",
	}.Make(t, etc)
	for _, c := range []struct {
		d    Drive
		want Start
	}{
		{Drive{Mount: "/"}, StartUnknown},
		{Drive{Mount: "/mnt/a", UUID: "AAAA"}, StartAlways},
		{Drive{Mount: "/mnt/a", UUID: "bbbb"}, StartNever},
		{Drive{Mount: "/mnt/b", Label: "BASALT"}, StartNever},
		{Drive{Mount: "/mnt/c", UUID: "cccc"}, StartAlways},
		{Drive{Mount: "/mnt/d", UUID: "cccc"}, StartNever},
		{Drive{Mount: "/mnt/e"}, StartAlways},
		{Drive{Mount: "/run/media/ines/DUNE"}, StartLogin},
		{Drive{Mount: "/media/ines/DUNE"}, StartLogin},
		{Drive{Mount: "/mnt/x", Memory: true}, StartUnknown},
		{Drive{Mount: "/mnt/x", Network: true}, StartUnknown},
		{Drive{Mount: "/mnt/x", Standin: true}, StartUnknown},
	} {
		require.Equal(t, c.want, c.d.AtStart(etc), "%+v", c.d)
	}
	at := t.TempDir()
	owned := fmt.Sprintf(",uid=%d,gid=%d", os.Getuid(), os.Getgid())
	for line, d := range map[string]Drive{
		`UUID=aaaa /mnt/my\040drive ext4 defaults,nofail 0 2`: {UUID: "aaaa", Mount: "/mnt/my drive", FS: "ext4"},
		"/dev/sdb1 /mnt/a xfs defaults,nofail 0 0":            {Source: "/dev/sdb1", Mount: "/mnt/a", FS: "xfs"},
		"UUID=b " + at + " auto defaults,nofail" + owned + " 0 0": {UUID: "b", Mount: at, FS: "fuseblk", Fuse: true,
			inner: "ntfs"},
		"UUID=c " + at + " exfat defaults,nofail" + owned + " 0 0": {UUID: "c", Mount: at, FS: "exfat"},
	} {
		require.Equal(t, line, d.FstabLine())
	}
}

// What lies below a mount shows without taking the mount away.
func TestUnderneath(t *testing.T) {
	at := filepath.Join(t.TempDir(), "point")
	lab.Tree{"below: x"}.Make(t, at)
	lab.MountMemory(t, at)
	_, err := os.Stat(filepath.Join(at, "below"))
	require.ErrorIs(t, err, os.ErrNotExist)
	require.True(t, Mounted(at))
	d, err := Underneath(at)
	require.NoError(t, err)
	defer d.Release()
	names, err := d.Names()
	require.NoError(t, err)
	require.Equal(t, []string{"below"}, names)
	require.False(t, Mounted(filepath.Dir(at)))
}

// Inode numbers are nothing to know an entry by on FAT and its like, whatever a system calls
// them, and behind FUSE.
func TestUnstableInodes(t *testing.T) {
	for _, fs := range []string{"FAT", "FAT32", "exFAT", "vfat", "msdos", "exfat"} {
		require.True(t, (&Drive{FS: fs}).UnstableInodes(), fs)
		require.True(t, (&Drive{FS: fs}).ForWindows(), fs)
	}
	require.True(t, (&Drive{FS: "fuseblk", Fuse: true, inner: "ntfs"}).UnstableInodes())
	for _, fs := range []string{"NTFS", "ReFS", "apfs", "hfs", "ext4", "xfs", "btrfs", "tmpfs"} {
		require.False(t, (&Drive{FS: fs}).UnstableInodes(), fs)
	}
}

func FuzzFstab(f *testing.F) {
	f.Add("# x\nUUID=1 / ext4 defaults 0 1\n/dev/sdb1 /mnt/my\\040drive ext4 noauto,nofail 0 0\n")
	f.Fuzz(func(t *testing.T, text string) {
		for _, l := range parseFstab(strings.NewReader(text)) {
			require.NotEmpty(t, l.source)
			require.NotEmpty(t, l.mount)
			require.NotContains(t, l.mount, "\n")
			(&Drive{Mount: l.mount, UUID: "x", Label: "y"}).named(l.source)
		}
	})
}

func TestPlacesAsTypedOnWindows(t *testing.T) {
	for typed, means := range map[string]string{`D:`: `D:\`, `D:\x`: `D:\x`, `D:\my x\"`: `D:\my x\`, "BASALT": "BASALT",
		"": "", "BASALT:": "BASALT:"} {
		require.Equal(t, means, windowsTyped(typed), typed)
	}
}
