//go:build linux

package test

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/test/lab"
)

// recap is what an engine says of a host at the end.
var recap = regexp.MustCompile(`(?m)^(\w+)\.kestrel-bay\.example +: (ok=.*)$`)

// debianPackage puts the program into a package.
func debianPackage(t *testing.T, dir, deb string) {
	t.Helper()
	released := plain(t)
	tree := filepath.Join(dir, "package")
	lab.Tree{"DEBIAN/control: Package: nexlin\nVersion: 0.1.0\nArchitecture: " +
		strings.TrimSpace(lab.Run(t, "dpkg", "--print-architecture")) +
		"\nMaintainer: the tests <tests@kestrel-bay.example>\nDescription: the program under test\n"}.Make(t, tree)
	require.NoError(t, os.MkdirAll(filepath.Join(tree, "usr/bin"), 0o755))
	lab.Run(t, "cp", released, filepath.Join(tree, "usr/bin/nexlin"))
	lab.Run(t, "dpkg-deb", "--root-owner-group", "-Zgzip", "-z1", "--build", tree, deb)
}

// ready makes a controller of what the sources bring, which reaches some hosts, and gives
// what runs a command there: what it said, and by host what it said at the end.
func ready(t *testing.T, f *lab.Fleet, hosts ...*lab.Host) func(command string) (string, map[string]string) {
	t.Helper()
	dir, here := filepath.Join(f.Dir, "fleet"), "fieldlaptops:\n  hosts:\n"
	for _, h := range hosts {
		here += fmt.Sprintf("    %s.kestrel-bay.example: {ansible_host: %s, ansible_user: root}\n", h.Name, h.Address)
	}
	write(t, filepath.Join(f.Dir, "here.yaml"), here+"    turnstone.kestrel-bay.example: {ansible_host: 10.77.99.2}\n"+
		"    dunlin.kestrel-bay.example: {ansible_host: 10.77.99.3}\n")
	root, err := filepath.Abs("..")
	require.NoError(t, err)
	return func(command string) (string, map[string]string) {
		t.Helper()
		at := dir
		if strings.Contains(command, " contrib/") {
			at = root
		}
		command = strings.TrimSuffix(command, " fleet") + map[bool]string{true: " " + dir}[strings.HasSuffix(command, " fleet")]
		out, _ := f.Control("env", "-C", at, "ANSIBLE_INVENTORY=inventory.yaml,"+f.Dir+"/here.yaml", "ANSIBLE_PIPELINING=True",
			"ANSIBLE_HOST_KEY_CHECKING=False", "ANSIBLE_PYTHON_INTERPRETER=/usr/bin/python3",
			"ANSIBLE_SSH_ARGS=-o ControlMaster=auto -o ControlPersist=60s "+f.SSH(), "sh", "-c", command)
		ends := map[string]string{}
		for _, m := range recap.FindAllStringSubmatch(out, -1) {
			ends[m[1]] = m[2]
		}
		return out, ends
	}
}

// From twenty laptops to a running fleet, by the commands of the administrators' document:
// one laptop in order, one with a full drive, one without its drive, two that can't be
// reached.
func TestFleet(t *testing.T) {
	t.Parallel()
	f := lab.NewFleet(t, "ansible-playbook", "dpkg-deb", "promtool")
	people := []string{"ines", "tomas"}
	skua := f.Host("skua", people...)
	whimbrel, phalarope := f.Host("whimbrel", people...), f.Host("phalarope", people...)
	dune := lab.NewPlug(t, "ext4", "DUNE", 32)
	for _, h := range []*lab.Host{skua, phalarope} {
		h.Plug(lab.NewPlug(t, "ext4", "BASALT", 32))
	}
	phalarope.Sh("head -c 64M /dev/zero >/media/BASALT/fill || true")
	everywhere := func(script string) {
		for _, h := range []*lab.Host{skua, whimbrel, phalarope} {
			h.Sh(script)
		}
	}
	ended := func(ends map[string]string, said string, want map[string]string) {
		t.Helper()
		for host, word := range want {
			require.Contains(t, ends[host], word, said)
		}
	}

	steps := []func(said string, ends map[string]string){
		func(string, map[string]string) { debianPackage(t, f.Dir, filepath.Join(f.Dir, "fleet/nexlin.deb")) },
		func(said string, _ map[string]string) {
			require.Equal(t, 3, strings.Count(said, `"pong"`), said)
			require.Contains(t, said, "turnstone.kestrel-bay.example | UNREACHABLE!")
		},
		func(said string, ends map[string]string) {
			ended(ends, said, map[string]string{"skua": "failed=0"})
			require.Contains(t, said, "nexlin is not installed yet")
			skua.Sh("test ! -e /etc/nexlin && test ! -L /home/ines/Pictures && test ! -e /usr/bin/nexlin")
		},
		func(said string, ends map[string]string) {
			ended(ends, said, map[string]string{"skua": "failed=0", "whimbrel": "failed=1",
				"phalarope": "failed=1", "turnstone": "unreachable=1"})
			require.Contains(t, said, "+ines: ~/Pictures ──link──▶ BASALT:/ines/Pictures: as declared")
			require.Contains(t, said, "ines, ~/Pictures: DUNE is not here. What to do: plug in and mount DUNE")
			require.Contains(t, said, "ines, ~/Pictures: BASALT has no room")
			for _, h := range []*lab.Host{whimbrel, phalarope} {
				h.Sh("test ! -L /home/ines/Pictures && test -f /home/ines/Pictures/2026/tern")
			}
			whimbrel.Plug(dune)
			phalarope.Sh("rm /media/BASALT/fill")
		},
		func(said string, ends map[string]string) {
			ended(ends, said, map[string]string{"skua": "changed=0", "whimbrel": "changed=1",
				"phalarope": "changed=1", "turnstone": "unreachable=1"})
			everywhere(`test "$(cat /home/tomas/Pictures/2026/tern)" = "a tern of tomas, on $(hostname)"
				test -L /home/tomas/Pictures && test -L /home/tomas/Recordings
				grep -q 'nexlin_redirects{state="good"} 4' /var/lib/prometheus/node-exporter/nexlin.prom`)
			skua.Sh("rm /home/ines/Pictures")
		},
		func(said string, _ map[string]string) {
			require.Contains(t, said, "-ines: ~/Pictures ──link──▶ BASALT:/ines/Pictures: the link /home/ines/Pictures is gone")
			require.Equal(t, 1, strings.Count(said, "CHANGED"), said)
			counted := strings.TrimSpace(skua.Sh("nexlin accounts check /etc/nexlin/accounts.yaml || test $? = 4"))
			require.Contains(t, said, counted[strings.LastIndexByte(counted, '\n')+1:], "check mode says what a check says")
		},
		func(said string, _ map[string]string) {
			require.Contains(t, said, `"broken": 1`)
			require.Contains(t, said, `"good": 3`)
			require.Contains(t, said, `"label": "DUNE"`)
		},
		func(said string, _ map[string]string) {
			require.Contains(t, said, `"changed": true`)
			skua.Sh("test ! -L /home/tomas/Pictures && test -f /home/tomas/Pictures/2026/tern")
		},
		func(said string, ends map[string]string) {
			ended(ends, said, map[string]string{"skua": "failed=0", "whimbrel": "failed=0",
				"phalarope": "failed=0"})
			everywhere(`for name in ines tomas; do
				test "$(ls -A /home/$name | tr '\n' ' ')" = ".config Pictures "
				test "$(cat /home/$name/Pictures/2026/tern)" = "a tern of $name, on $(hostname)"
			done`)
		},
		func(said string, _ map[string]string) { require.Contains(t, said, "SUCCESS") },
		func(said string, _ map[string]string) { require.Contains(t, said, "SUCCESS") },
	}
	text, err := os.ReadFile("../docs/administrators.md")
	require.NoError(t, err)
	_, many, _ := strings.Cut(string(text), fleetHeading)
	commands := commandsOf(many)
	require.Len(t, commands, len(steps))
	run := ready(t, f, skua, whimbrel, phalarope)
	for k, command := range commands {
		said, ends := run(command)
		t.Log(command)
		steps[k](said, ends)
	}
}
