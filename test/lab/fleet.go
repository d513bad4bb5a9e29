//go:build linux

package lab

import (
	"bytes"
	_ "embed"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"
)

//go:embed host.sh
var hostScript string

// A Fleet is several hosts on this machine, each with a root, processes, a name and a network
// of its own (namespaces(7)), and a place from which all of them are reached. Nothing of it
// is seen from outside, and all of it goes with the test.
type Fleet struct {
	T   testing.TB
	Dir string // of the controller
	pid int    // in whose network the controller is
	n   int    // hosts so far
}

// A Host is one of a fleet.
type Host struct {
	Name, Address string
	fleet         *Fleet
	pid           int // its first process
}

// spaces are the namespaces that a host has of its own.
const spaces = syscall.CLONE_NEWNS | syscall.CLONE_NEWPID | syscall.CLONE_NEWNET | syscall.CLONE_NEWUTS

// hostProbe does what hosts are made of, in the same namespaces.
const hostProbe = `mount --make-rprivate / && mount -t tmpfs probe "$1" && mkdir "$1/u" "$1/w" "$1/r"
mount -t overlay -o "lowerdir=/,upperdir=$1/u,workdir=$1/w" probe "$1/r" && mount -t proc proc "$1/r/proc"
ip link add probe0 type veth peer name probe1 && hostname probe`

// NewFleet makes a fleet without hosts. The test is skipped where it can't be had.
func NewFleet(t testing.TB, programs ...string) *Fleet {
	t.Helper()
	Root(t)
	for _, p := range append([]string{"ip", "nsenter", "sshd", "ssh", "ssh-keygen"}, programs...) {
		if _, err := exec.LookPath(p); err != nil {
			Skip(t, p+" is not installed")
		}
	}
	f := &Fleet{T: t, Dir: Scratch(t)}
	probe := exec.Command("sh", "-ec", hostProbe, "probe", t.TempDir())
	probe.SysProcAttr = &syscall.SysProcAttr{Cloneflags: spaces}
	if out, err := probe.CombinedOutput(); err != nil {
		Skip(t, fmt.Sprintf("hosts can't be made here: %v %s", err, out))
	}
	f.pid = f.start(syscall.CLONE_NEWNET, "sleep", "infinity")
	f.in(f.pid, "ip", "link", "set", "lo", "up")
	Run(t, "ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", filepath.Join(f.Dir, "key"))
	return f
}

// start starts a process in namespaces of its own, which ends with the test.
func (f *Fleet) start(namespaces uintptr, words ...string) int {
	f.T.Helper()
	cmd := exec.Command(words[0], words[1:]...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Cloneflags: namespaces}
	log := &bytes.Buffer{}
	cmd.Stdout, cmd.Stderr = log, log
	cmd.WaitDelay = time.Second
	if err := cmd.Start(); err != nil {
		Skip(f.T, fmt.Sprintf("namespaces can't be made here: %v", err))
	}
	f.T.Cleanup(func() {
		_ = cmd.Process.Kill() // the others in its namespace go with it
		_ = cmd.Wait()         // it was killed
		if f.T.Failed() && log.Len() > 0 {
			f.T.Logf("%s: %s", words[0], log)
		}
	})
	return cmd.Process.Pid
}

// in runs a command in the network of a process.
func (f *Fleet) in(pid int, words ...string) {
	f.T.Helper()
	Run(f.T, "nsenter", append([]string{"-t", strconv.Itoa(pid), "-n"}, words...)...)
}

// Host starts a host with some people, each of whom has a few pictures. It can be reached
// when this returns.
func (f *Fleet) Host(name string, people ...string) *Host {
	f.T.Helper()
	f.n++
	dir := filepath.Join(f.Dir, name)
	if err := os.MkdirAll(filepath.Join(dir, "layers"), 0o755); err != nil {
		f.T.Fatal(err)
	}
	Run(f.T, "ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", filepath.Join(dir, "hostkey"))
	h := &Host{Name: name, Address: fmt.Sprintf("10.77.%d.2", f.n), fleet: f}
	h.pid = f.start(spaces, "sh", "-c", hostScript, "host", dir, name, strings.Join(people, " "))
	near := fmt.Sprintf("host%d", f.n)
	Run(f.T, "ip", "link", "add", near, "netns", strconv.Itoa(f.pid), "type", "veth", "peer", "name", "eth0", "netns",
		strconv.Itoa(h.pid))
	f.in(f.pid, "ip", "addr", "add", fmt.Sprintf("10.77.%d.1/30", f.n), "dev", near)
	f.in(h.pid, "ip", "addr", "add", h.Address+"/30", "dev", "eth0")
	f.in(f.pid, "ip", "link", "set", near, "up")
	f.in(h.pid, "ip", "link", "set", "eth0", "up")
	for end := time.Now().Add(20 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		out, code := f.Control(append(append([]string{"ssh"}, f.sshOptions()...), "root@"+h.Address, "hostname")...)
		if code == 0 {
			return h
		}
		if time.Now().After(end) {
			f.T.Fatalf("%s can't be reached: %s", name, out)
		}
	}
}

func (f *Fleet) sshOptions() []string {
	return []string{"-i", filepath.Join(f.Dir, "key"), "-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null",
		"-o", "ConnectTimeout=5", "-o", "LogLevel=ERROR"}
}

// SSH are the options by which hosts are reached, as one text.
func (f *Fleet) SSH() string { return strings.Join(f.sshOptions(), " ") }

// Cmd prepares a command of the controller's.
func (f *Fleet) Cmd(words ...string) *exec.Cmd {
	cmd := exec.Command("nsenter", append([]string{"-t", strconv.Itoa(f.pid), "-n"}, words...)...)
	cmd.Dir = f.Dir
	cmd.Env = append(os.Environ(), "HOME="+f.Dir)
	return cmd
}

// Sh runs a script on the host, as its administrator.
func (h *Host) Sh(script string) string {
	h.fleet.T.Helper()
	return Run(h.fleet.T, "nsenter", "-t", strconv.Itoa(h.pid), "-m", "-p", "-n", "-u", "sh", "-ec", script)
}

// Plug mounts a drive on the host, below /media by its label.
func (h *Host) Plug(p *Plug) {
	h.fleet.T.Helper()
	h.Sh(fmt.Sprintf("mkdir -p /media/%s && mount %s /media/%[1]s", p.Label, p.Loop))
}

// Control runs a command of the controller's and gives what it said, and its exit status.
func (f *Fleet) Control(words ...string) (string, int) {
	f.T.Helper()
	out, err := f.Cmd(words...).CombinedOutput()
	if exit := (*exec.ExitError)(nil); errors.As(err, &exit) {
		return string(out), exit.ExitCode()
	} else if err != nil {
		f.T.Fatal(err)
	}
	return string(out), 0
}
