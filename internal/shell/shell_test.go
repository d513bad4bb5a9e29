package shell

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// Each system has its own words, quoted for its own shell; what it has no command for is empty.
func TestCommands(t *testing.T) {
	const spaced = "/mnt/my drive"
	for s, want := range map[System][]string{
		"linux": {"mv -nT -- /a '/mnt/my drive'", "cp -anT -- /a '/mnt/my drive'",
			"umount '/mnt/my drive' && mount UUID=1-2 '/mnt/my drive'", "mount -o remount,rw /a", "systemctl stop x"},
		"darwin": {"mv -n -- /a '/mnt/my drive'", "ditto /a '/mnt/my drive'",
			"diskutil unmount '/mnt/my drive' && diskutil mount 1-2", "mount -u -w /a", "launchctl bootout x"},
		"windows": {`move /-Y /a "/mnt/my drive"`, `robocopy /a "/mnt/my drive" /E /COPY:DAT /DCOPY:DAT`,
			`mountvol "/mnt/my drive" /P`, "", "net stop x"},
	} {
		require.Equal(t, want, []string{s.Rename("/a", spaced), s.Copy("/a", spaced),
			s.Then(s.Unmount(spaced), "", s.Mount("1-2", spaced)), s.Writable("/a"), s.StopService("x")}, s)
	}
	require.Equal(t, "mkdir a`, then `mkdir b", System("windows").Then("mkdir a", "mkdir b"))
	require.Equal(t, System("linux").MakeDir("it's"), System("freebsd").MakeDir("it's"))
}
