//go:build unix

package handle

import "syscall"

const withoutWaiting = syscall.O_NONBLOCK
