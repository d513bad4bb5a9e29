//go:build unix

package standin

import "syscall"

func settle() { syscall.Umask(0o022) }
