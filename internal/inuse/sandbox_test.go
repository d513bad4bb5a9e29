package inuse

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestSandboxesThatLoseSight(t *testing.T) {
	root := t.TempDir()
	s := Sandbox{Root: root, Home: filepath.Join(root, "home/ines")}
	put := filesIn(t, root)
	app := func(name, systems string) {
		put("var/lib/flatpak/app/"+name+"/current/active/metadata",
			"[Application]\nname="+name+"\nfilesystems=host\n\n[Context]\nfilesystems="+systems+"\n")
	}
	app("org.example.All", "host;")
	app("org.example.Home", "home;xdg-run/dconf;")
	app("org.example.Music", "xdg-music;")
	app("org.example.Some", "~/Pictures/Plumage;/srv")
	app("org.example.None", "")
	app("org.example.Granted", "home")
	put("home/ines/.local/share/flatpak/overrides/org.example.Granted", "[Context]\nfilesystems=/mnt/basalt:ro;\n")
	put("snap/player/current/meta/snap.yaml",
		"name: player\nplugs: {x: null}\napps: {player: {plugs: [home, removable-media]}}\n")
	put("snap/shut/current/meta/snap.yaml", "name: shut\napps: {shut: {plugs: [network]}}\n")
	put("snap/strict/current/meta/snap.yaml", "name: strict\nconfinement: strict\napps: {strict: {plugs: [home]}}\n")
	put("snap/free/current/meta/snap.yaml", "name: free\nconfinement: classic\napps: {free: {plugs: [home]}}\n")

	got, err := s.Cut(filepath.Join(s.Home, "Music"), "/mnt/basalt/ines/Music", "music")
	require.NoError(t, err)
	require.Equal(t, []Sandboxed{
		{"org.example.Home", "flatpak override --user --filesystem=/mnt/basalt/ines/Music org.example.Home"},
		{"player", "snap connect player:removable-media"},
		{"strict", ""},
	}, got)

	got, err = s.Cut(filepath.Join(s.Home, "Pictures/Plumage/kestrel"), "/srv/plumage", "")
	require.NoError(t, err)
	require.Equal(t, []string{"org.example.Granted", "org.example.Home", "player", "strict"}, programsOf(got))

	got, err = s.Granted("/mnt/basalt")
	require.NoError(t, err)
	require.Equal(t, []Sandboxed{{"org.example.Granted",
		"flatpak override --user --nofilesystem=/mnt/basalt org.example.Granted"}}, got)
	got, err = s.Granted("/mnt")
	require.NoError(t, err)
	require.Empty(t, got)

	got, err = s.Cut(filepath.Join(s.Home, ".hidden"), "/mnt/x", "")
	require.NoError(t, err)
	require.Equal(t, []string{"org.example.Granted", "org.example.Home"}, programsOf(got))
}

func TestConfinedServices(t *testing.T) {
	root := t.TempDir()
	put := filesIn(t, root)
	put("etc/apparmor.d/named", "# /var/lib/burrow\nprofile named /usr/sbin/burrowd {\n  /var/lib/burrow/** rwk,\n}\n")
	put("etc/apparmor.d/file-in-it", "  owner /var/lib/burrow/data/*.db rw,\n")
	put("etc/apparmor.d/wide", "  /var/** rw,\n")
	put("etc/apparmor.d/quoted", "  \"/var/lib/burrow/\" r,\n")
	put("etc/apparmor.d/homes-too", "  @{HOME}/** rw,\n  /var/lib/burrow/** rwk,\n")
	put("etc/apparmor.d/home", "  @{HOME}/** rw,\n")
	put("etc/apparmor.d/everywhere", "  /** rw,\n")
	put("etc/apparmor.d/near", "  /var/lib/burrow-more/** rw,\n  /var/lib/* r,\n  deny /var/lib/burrow/** w,\n")
	put("etc/apparmor.d/granted", "  /var/lib/burrow/** rwk,\n")
	put("etc/apparmor.d/local/granted", "/mnt/basalt/burrow/** rwk,\n")
	put("etc/apparmor.d/no-lines", strings.Repeat("x", 200<<10)+"\n  /var/lib/burrow/** rwk,\n")
	put("etc/apparmor.d/off", "  /var/lib/burrow/** rwk,\n")
	put("etc/apparmor.d/disable/off", "")
	s := Sandbox{Root: root}
	got, err := s.Cut("/var/lib/burrow", "/mnt/basalt/burrow", "")
	require.NoError(t, err)
	require.Empty(t, got, "the kernel confines nobody")
	put("sys/module/apparmor/parameters/enabled", "Y\n")
	got, err = s.Cut("/var/lib/burrow", "/mnt/basalt/burrow", "")
	require.NoError(t, err)
	require.Equal(t, []string{"file-in-it", "homes-too", "named", "quoted", "wide"}, programsOf(got))
	require.Equal(t, `echo '"/mnt/basalt/burrow/" r, "/mnt/basalt/burrow/**" rwk,' >>/etc/apparmor.d/local/named`+
		` && apparmor_parser -r /etc/apparmor.d/named`, got[2].Grant)
	s.Home = "/home/ines"
	got, err = s.Cut("/home/ines/Rec", "/mnt/basalt/Rec", "")
	require.NoError(t, err)
	require.Equal(t, []string{"home", "homes-too"}, programsOf(got))
}

// filesIn writes files below a directory.
func filesIn(t *testing.T, root string) func(path, text string) {
	return func(path, text string) {
		path = filepath.Join(root, path)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	}
}

func programsOf(in []Sandboxed) (out []string) {
	for _, s := range in {
		out = append(out, s.Program)
	}
	return out
}
