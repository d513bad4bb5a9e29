package places

// systemPlaces are directories that the system needs where they are, and those
// in which nothing at all may be moved.
func systemPlaces() (needed, whole []string) {
	return []string{
			"/Applications", "/Library", "/Network", "/Users", "/Users/Shared", "/Volumes", "/cores", "/opt",
			"/private", "/private/tmp", "/private/var", "/usr",
		}, []string{
			"/System", "/bin", "/dev", "/private/etc", "/private/var/db", "/private/var/vm", "/sbin", "/usr/bin",
			"/usr/lib", "/usr/libexec", "/usr/sbin",
		}
}
