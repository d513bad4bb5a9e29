//go:build faults

package handle

import (
	"fmt"
	"os"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
)

// A planned fault of system calls. Only programs built with the tag faults
// have this. NEXLIN_FAULT says which:
//
//	calls               writes the name of each call to standard error
//	call:NAME:N:ERRNO   the N-th call of that name fails; N+ has all further ones fail, too
//	call-kill:N         the process ends before its N-th call
type faultPlan struct {
	list  bool
	kill  int64
	name  string
	at    int64
	on    bool
	errno error
	seen  atomic.Int64
}

var planned = sync.OnceValue(func() *faultPlan {
	how, rest, _ := strings.Cut(os.Getenv("NEXLIN_FAULT"), ":")
	p := &faultPlan{list: how == "calls"}
	switch how {
	case "call-kill":
		p.kill, _ = strconv.ParseInt(rest, 10, 64)
	case "call":
		part := strings.Split(rest, ":")
		var at string
		at, p.on = strings.CutSuffix(part[1], "+")
		p.name = part[0]
		p.at, _ = strconv.ParseInt(at, 10, 64)
		p.errno = map[string]error{"EIO": syscall.EIO, "ENOSPC": syscall.ENOSPC, "EROFS": syscall.EROFS,
			"EACCES": syscall.EACCES, "EMFILE": syscall.EMFILE, "EBUSY": syscall.EBUSY,
			"EDQUOT": syscall.EDQUOT}[part[2]]
	}
	return p
})

// OnCall, if it is not nil, is asked before each call what the call answers instead
// of being made; nil has it made. For tests in process, one at a time.
var OnCall func(name string) error

func fault(name string) error {
	if OnCall != nil {
		if err := OnCall(name); err != nil {
			return err
		}
	}
	p := planned()
	if p.list {
		fmt.Fprintln(os.Stderr, "call", name)
	}
	if p.kill > 0 && p.seen.Add(1) == p.kill {
		_ = syscall.Kill(os.Getpid(), syscall.SIGKILL)
		select {}
	}
	if p.name != name {
		return nil
	}
	if n := p.seen.Add(1); n == p.at || p.on && n > p.at {
		return p.errno
	}
	return nil
}
