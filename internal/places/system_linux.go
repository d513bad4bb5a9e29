package places

// systemPlaces are directories that the system needs where they are, and those
// in which nothing at all may be moved.
func systemPlaces() (needed, whole []string) {
	return []string{
			"/bin", "/boot", "/dev", "/etc", "/home", "/lib", "/lib32", "/lib64", "/libx32", "/lost+found", "/media",
			"/mnt",
			"/opt", "/proc", "/root", "/run", "/sbin", "/srv", "/sys", "/tmp", "/usr", "/var",
		}, []string{
			"/bin", "/boot", "/dev", "/etc", "/lib", "/lib32", "/lib64", "/proc", "/run", "/sbin", "/sys", "/usr/bin",
			"/usr/lib", "/usr/sbin",
		}
}
