package inuse

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/moby/sys/mountinfo"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"nexlin/test/lab"
)

// A program holds the folder in every way there is, and is seen in each.
func TestBelowSeesEveryHold(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "a folder\nwith a newline")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "sub"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "r"), []byte("r"), 0o644))
	cmd := exec.Command("sh", "-c", `exec 3<r 4>>w 5<sub; echo ready; read x`)
	cmd.Dir = dir
	in, err := cmd.StdinPipe()
	require.NoError(t, err)
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	defer func() { in.Close(); _ = cmd.Wait() }() // it ends with its input
	_, err = bufio.NewReader(out).ReadString('\n')
	require.NoError(t, err)

	r, err := Below(context.Background(), dir)
	require.NoError(t, err)
	got := map[string]How{}
	for _, h := range r.Holders {
		require.Equal(t, cmd.Process.Pid, h.PID)
		require.Equal(t, "sh", h.Program)
		rel, err := filepath.Rel(dir, h.Path)
		require.NoError(t, err)
		got[rel] = h.How
	}
	require.Equal(t, map[string]How{".": Working, "r": Reading, "w": Writing, "sub": Directory}, got)
	require.Len(t, r.Writers(), 1)

	// A neighbour with the same beginning is another folder.
	r, err = Below(context.Background(), dir[:len(dir)-1])
	require.NoError(t, err)
	require.Empty(t, r.Holders)
	_, err = io.WriteString(in, "\n")
	require.NoError(t, err)
}

// A mount table may say anything: what it says of a path never leads out of the
// file system, and nothing falls over.
func FuzzMountTable(f *testing.F) {
	f.Add("36 35 98:0 /a /mnt\\040x rw - ext4 /dev/loop0 rw,lowerdir=/a:/b\n", "/mnt x/b")
	f.Fuzz(func(t *testing.T, table, path string) {
		infos, err := mountinfo.GetMountsFromReader(strings.NewReader(table), nil)
		if err != nil {
			return
		}
		mounts := mountTable{}
		for _, m := range infos {
			mounts.add(m)
		}
		for _, m := range mounts {
			if at := m.within(path); at != "" {
				_, inside := below(m.at, path)
				require.True(t, inside)
			}
		}
		p := place{dir: path, mount: 36}
		p.learn(mounts)
		_ = unescaped(table)
	})
}

func TestServiceOf(t *testing.T) {
	for groups, want := range map[string]string{
		"0::/system.slice/callroost.service\n":                                                 "callroost.service",
		"0::/user.slice/user-1000.slice/user@1000.service/app.slice/mudflat.service":           "mudflat.service",
		"0::/user.slice/user-1000.slice/user@1000.service/app.slice/app-gnome-viewer-12.scope": "",
		"0::/user.slice/user-1000.slice/session-3.scope\n":                                     "",
		"12:cpu:/x\n0::/": "",
		"":                "",
		"0::/user.slice/user-1000.slice/user@1000.service/app.slice/app-org.example.Viewer@3f2a.service": "",
	} {
		require.Equal(t, want, serviceOf(groups), groups)
	}
}

// held runs a shell that holds something until the test ends; script says
// `echo ready` once it does.
func held(t *testing.T, name string, args ...string) *exec.Cmd {
	t.Helper()
	cmd := exec.Command(name, args...)
	in, err := cmd.StdinPipe()
	require.NoError(t, err)
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { in.Close(); _ = cmd.Wait() })
	_, err = bufio.NewReader(out).ReadString('\n')
	require.NoError(t, err)
	return cmd
}

// What holds a folder is known by device and inode: through other mounts,
// other namespaces, other names, loop devices and swap.
func TestBelowKnowsTheInode(t *testing.T) {
	const wait = "echo ready; read x"
	type given struct{ dir, file, elsewhere string }
	for name, c := range map[string]struct {
		hold func(t *testing.T, g given)
		how  []How
	}{
		"bind mount alone": {func(t *testing.T, g given) {
			lab.Mount(t, g.elsewhere, "--bind", g.dir)
		}, []How{Mounted}},
		"bind mount of a part": {func(t *testing.T, g given) {
			lab.Mount(t, g.elsewhere, "--bind", filepath.Dir(g.file))
		}, []How{Mounted}},
		"program through a bind mount of a parent": {func(t *testing.T, g given) {
			lab.Mount(t, g.elsewhere, "--bind", filepath.Dir(g.dir))
			held(t, "sh", "-c", `exec 4>>"$0/a folder/sub/file"; `+wait, g.elsewhere)
		}, []How{Writing}},
		"program through a mount that was taken away": {func(t *testing.T, g given) {
			lab.Run(t, "mount", "--bind", filepath.Dir(g.dir), g.elsewhere)
			held(t, "sh", "-c", `exec 4>>"$0/a folder/sub/file"; `+wait, g.elsewhere)
			lab.Run(t, "umount", "-l", g.elsewhere)
		}, []How{Writing}},
		"another namespace's mount": {func(t *testing.T, g given) {
			held(t, "unshare", "-m", "--propagation", "private", "sh", "-c", `mount --bind "$0" "$1"; `+wait, g.dir,
				g.elsewhere)
		}, []How{Mounted}},
		"program in another namespace": {func(t *testing.T, g given) {
			held(t, "unshare", "-m", "--propagation", "private", "sh", "-c",
				`mount --bind "$0" "$1"; exec 4>>"$1/a folder/sub/file"; `+wait, filepath.Dir(g.dir), g.elsewhere)
		}, []How{Writing}},
		"another name of a file": {func(t *testing.T, g given) {
			other := filepath.Join(filepath.Dir(g.dir), "other name")
			require.NoError(t, os.Link(g.file, other))
			held(t, "sh", "-c", `exec 4>>"$0"; `+wait, other)
		}, []How{Writing}},
		"loop device": {func(t *testing.T, g given) {
			loop := strings.TrimSpace(lab.Run(t, "losetup", "-f", "--show", g.file))
			t.Cleanup(func() { lab.Run(t, "losetup", "-d", loop) })
		}, []How{Loop}},
		"loop device by another name": {func(t *testing.T, g given) {
			lab.Run(t, "mount", "--bind", filepath.Dir(g.dir), g.elsewhere)
			loop := strings.TrimSpace(lab.Run(t, "losetup", "-f", "--show",
				filepath.Join(g.elsewhere, "a folder/sub/file")))
			t.Cleanup(func() { lab.Run(t, "losetup", "-d", loop) })
			lab.Run(t, "umount", "-l", g.elsewhere)
		}, []How{Loop}},
		"swap": {func(t *testing.T, g given) {
			lab.Run(t, "mkswap", g.file)
			lab.Run(t, "swapon", g.file)
			t.Cleanup(func() { lab.Run(t, "swapoff", g.file) })
		}, []How{Swap}},
		"layer of an overlay": {func(t *testing.T, g given) {
			lab.Mount(t, g.elsewhere, "-t", "overlay", "overlay", "-o", "lowerdir="+filepath.Dir(g.file)+
				":/usr/share/doc")
		}, []How{Mounted}},
		"nobody": {func(t *testing.T, g given) {
			lab.Mount(t, g.elsewhere, "--bind", filepath.Dir(g.dir)+"/a neighbour")
			held(t, "sh", "-c", `exec 4>>"$0/a neighbour/file"; `+wait, filepath.Dir(g.dir))
		}, nil},
	} {
		t.Run(name, func(t *testing.T) {
			drive := lab.Drive(t, "ext4", "SKERRY", 64)
			g := given{dir: filepath.Join(drive, "a folder"), elsewhere: filepath.Join(t.TempDir(), "elsewhere")}
			if strings.Contains(name, "overlay") {
				g.dir = filepath.Join(drive, "folder") // mount(8) would have to quote the space
			}
			g.file = filepath.Join(g.dir, "sub", "file")
			for _, d := range []string{filepath.Dir(g.file), g.elsewhere, filepath.Join(drive, "a neighbour")} {
				require.NoError(t, os.MkdirAll(d, 0o755))
			}
			require.NoError(t, os.WriteFile(g.file, make([]byte, 1<<20), 0o600))
			c.hold(t, g)
			r, err := Below(context.Background(), g.dir)
			require.NoError(t, err)
			require.True(t, r.Complete)
			var hows []How
			for _, h := range r.Holders {
				hows = append(hows, h.How)
			}
			require.Equal(t, c.how, slices.Compact(hows), "%v", r.Holders)
			require.Len(t, r.Writers(), len(r.Holders))
		})
	}
}

// What the kernel is asked for is what the text of proc(5) says.
func TestMapsAskedAndRead(t *testing.T) {
	exe, err := os.Executable()
	require.NoError(t, err)
	file, err := os.Create(filepath.Join(filepath.Dir(exe), "a map\nof ours"))
	require.NoError(t, err)
	defer file.Close()
	require.NoError(t, file.Truncate(8192))
	shared, err := unix.Mmap(int(file.Fd()), 0, 8192, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_SHARED)
	require.NoError(t, err)
	defer unix.Munmap(shared)
	for _, writers := range []bool{false, true} {
		p, err := placeOf(filepath.Dir(exe))
		require.NoError(t, err)
		l := &look{place: p, onlyWriters: writers, mounts: mountTable{}, seen: map[mapped]bool{}}
		l.namespace(0, "/proc/self")
		p.learn(l.mounts)
		s := scan{look: l, root: "/proc/self"}
		list := func(all *[]string) eachMap {
			return func(ino uint64, path, span string, writes bool) {
				*all = append(*all, fmt.Sprintf("%d %q %s %t", ino, path, span, writes))
			}
		}
		f, err := os.Open("/proc/self/maps")
		require.NoError(t, err)
		defer f.Close()
		var asked, read []string
		if !s.askMaps(f, list(&asked)) {
			t.Skip("this kernel does not answer PROCMAP_QUERY")
		}
		s.readMaps(f, list(&read))
		require.Equal(t, read, asked)
		require.Contains(t, strings.Join(read, "\n"), `map\nof ours`)
		require.Equal(t, writers, len(read) == 1, "%q", read)
	}
}
