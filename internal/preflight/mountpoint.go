package preflight

import (
	"errors"
	"fmt"
	"path/filepath"

	"nexlin/internal/account"
	"nexlin/internal/drive"
	"nexlin/internal/finding"
	"nexlin/internal/handle"
	"nexlin/internal/pathtext"
	"nexlin/internal/shell"
)

// MountPoint tells what becomes of the mount point of a redirect's target while the drive is
// not there: whether it comes back by itself, and whether programs could fill
// the empty mount point meanwhile.
func MountPoint(d *drive.Drive, name string) (out []finding.Finding, err error) {
	about := finding.Subject{Name: name, Drive: d.Name()}
	switch d.AtStart("/etc") {
	case drive.StartUnknown:
		return nil, nil
	case drive.StartLogin:
		out = append(out, finding.New(finding.NotAtStart, d.Mount,
			"%s is mounted only once somebody has logged in at the desktop", d.Name()).About(about).
			Instead("programs that start by themselves find the link leading nowhere until then; a line in "+
				"/etc/fstab mounts it at every start: `"+d.FstabLine()+"`"))
	case drive.StartNever:
		out = append(out, finding.New(finding.NotAtStart, d.Mount, "nothing mounts %s when the machine starts",
			d.Name()).About(about).
			Instead(
				"until somebody mounts it the link leads nowhere; a line in /etc/fstab mounts it at every start: `"+
					d.FstabLine()+"`"))
	}
	who, err := opened(d.Mount)
	if err != nil || who == "" {
		return out, err
	}
	at := pathtext.Quote(d.Mount)
	again := "mount " + at
	if d.UUID != "" {
		again = shell.Here.Mount(d.UUID, d.Mount)
	}
	out = append(out, finding.New(finding.MountOpen, d.Mount, "while %s is not there, %s can write into its mount "+
		"point %s, which lies on another drive", d.Name(), who, d.Mount).About(about).
		Instead(fmt.Sprintf("an administrator closes it for good: `umount %s && chattr +i %[1]s && %s`", at, again)))
	return out, nil
}

// opened says who may write into a mount point when nothing is mounted there;
// empty if nobody but the administrator. What this account can't see, it
// judges by the directory around.
func opened(mount string) (string, error) {
	if pathtext.IsRoot(mount) {
		return "", nil
	}
	below, err := drive.Underneath(mount)
	if errors.Is(err, drive.ErrUnseen) {
		if handle.Access(filepath.Dir(mount), handle.MayWrite|handle.MayEnter) == nil {
			return "any program of this account", nil
		}
		return "", nil
	}
	if err != nil {
		return "", nil // mounted over a place that is gone: nobody reaches it
	}
	defer below.Release()
	st, err := below.Self()
	switch {
	case err != nil || st.Attributes&handle.AttrImmutable != 0:
		return "", err
	case st.Mode&0o002 != 0:
		return "any program", nil
	case st.UID != 0 && st.Mode&0o200 != 0:
		return "any program of " + account.Name(st.UID), nil
	}
	return "", nil
}
