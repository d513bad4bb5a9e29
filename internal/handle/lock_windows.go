package handle

import (
	"encoding/binary"
	"encoding/hex"
	"errors"
	"hash/fnv"
	"sync"
	"syscall"

	"golang.org/x/sys/windows"
)

// sysLock holds a folder for this process: the system locks files, not
// directories. A name in the machine's own space stands for each way of
// holding; it is gone with the last handle, so with the process.
func sysLock(fd descriptor, exclusive bool) error {
	var st Stat
	if err := statOpen(fd, &st); err != nil {
		return err
	}
	locks.Lock()
	defer locks.Unlock()
	h := locks.held[fd]
	alone, together := lockName(&st, "alone"), lockName(&st, "together")
	if exclusive {
		if h.alone != 0 {
			return nil
		}
		if h.together != 0 {
			windows.CloseHandle(h.together)
			h.together = 0
		}
		mine, existed, err := event(alone)
		if err != nil {
			return err
		}
		others, there, err := event(together)
		if err == nil {
			windows.CloseHandle(others)
		}
		if existed || there || err != nil {
			windows.CloseHandle(mine)
			return errors.Join(syscall.EWOULDBLOCK, err)
		}
		h.alone = mine
	} else {
		if h.together != 0 {
			return nil
		}
		mine, _, err := event(together)
		if err != nil {
			return err
		}
		if h.alone != 0 {
			windows.CloseHandle(h.alone)
			h.alone = 0
		}
		other, there, err := event(alone)
		if err == nil {
			windows.CloseHandle(other)
		}
		if there || err != nil {
			windows.CloseHandle(mine)
			return errors.Join(syscall.EWOULDBLOCK, err)
		}
		h.together = mine
	}
	locks.held[fd] = h
	return nil
}

type lock struct{ alone, together windows.Handle }

var locks = struct {
	sync.Mutex
	held map[windows.Handle]lock
}{held: map[windows.Handle]lock{}}

// unlock lets go of what [sysLock] holds by fd.
func unlock(fd descriptor) {
	locks.Lock()
	defer locks.Unlock()
	h, ok := locks.held[fd]
	if !ok {
		return
	}
	delete(locks.held, fd)
	for _, x := range []windows.Handle{h.alone, h.together} {
		if x != 0 {
			windows.CloseHandle(x)
		}
	}
}

func lockName(st *Stat, how string) string {
	sum := fnv.New128a()
	var b [16]byte
	binary.LittleEndian.PutUint64(b[:], st.Dev)
	binary.LittleEndian.PutUint64(b[8:], st.Ino)
	sum.Write(b[:])
	return `Global\nexlin-` + how + "-" + hex.EncodeToString(sum.Sum(nil))
}

// event makes or opens the thing that a lock is; another account's, which
// can't be opened, is there as well.
func event(name string) (h windows.Handle, existed bool, err error) {
	p, err := windows.UTF16PtrFromString(name)
	if err != nil {
		return 0, false, err
	}
	h, err = windows.CreateEvent(nil, 1, 0, p)
	switch {
	case errors.Is(err, windows.ERROR_ALREADY_EXISTS):
		return h, true, nil
	case errors.Is(err, windows.ERROR_ACCESS_DENIED):
		return 0, true, nil
	case err != nil:
		return 0, false, portable(err)
	}
	return h, false, nil
}
