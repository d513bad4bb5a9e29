package drive

import (
	"strconv"
	"sync"
	"time"
	"unsafe"

	"golang.org/x/sys/windows"
)

// hereNow says in one text which letters there are, without asking the drives: a disk at rest stays so.
func hereNow() string {
	letters, err := windows.GetLogicalDrives()
	if err != nil {
		return "" // asked again soon
	}
	return strconv.FormatUint(uint64(letters), 16)
}

var (
	cfgmgr     = windows.NewLazySystemDLL("cfgmgr32.dll")
	register   = cfgmgr.NewProc("CM_Register_Notification")
	unregister = cfgmgr.NewProc("CM_Unregister_Notification")
)

// notifyFilter is CM_NOTIFY_FILTER for a class of device interfaces.
type notifyFilter struct {
	size, flags, kind, reserved uint32
	class                       windows.GUID
	_                           [400 - 16]byte
}

// volumeClass is the class of device interfaces that volumes have (GUID_DEVINTERFACE_VOLUME).
var volumeClass = windows.GUID{Data1: 0x53f5630d, Data2: 0xb6bf, Data3: 0x11d0,
	Data4: [8]byte{0x94, 0xf2, 0x00, 0xa0, 0xc9, 0x1e, 0xfb, 0x8b}}

// told has what waits for volumes that come and go. The system has one callback for all of them, since
// one that was made stays.
var told struct {
	sync.Mutex
	waiting map[chan struct{}]bool
}

var heard = sync.OnceValue(func() uintptr {
	return windows.NewCallback(func(_, _, _, _, _ uintptr) uintptr {
		told.Lock()
		defer told.Unlock()
		for c := range told.waiting {
			select {
			case c <- struct{}{}:
			default:
			}
		}
		return 0
	})
})

// notices has something arrive when a volume comes or goes, and once more a moment later, when it
// has its place. end ends that. Where the system has no such notices nothing ever arrives.
func notices() (news <-chan struct{}, end func()) {
	raw, out := make(chan struct{}, 1), make(chan struct{}, 1)
	f := notifyFilter{class: volumeClass}
	f.size = uint32(unsafe.Sizeof(f))
	var h uintptr
	if register.Find() != nil {
		return nil, func() {}
	}
	told.Lock()
	if told.waiting == nil {
		told.waiting = map[chan struct{}]bool{}
	}
	told.waiting[raw] = true
	told.Unlock()
	leave := func() {
		told.Lock()
		delete(told.waiting, raw)
		told.Unlock()
	}
	answer, _, _ := register.Call(uintptr(unsafe.Pointer(&f)), 0, heard(), uintptr(unsafe.Pointer(&h)))
	if answer != 0 {
		leave()
		return nil, func() {}
	}
	done := make(chan struct{})
	go func() {
		again := time.NewTimer(time.Hour)
		defer again.Stop()
		for {
			select {
			case <-done:
				return
			case <-raw:
				again.Reset(2 * time.Second)
			case <-again.C:
				again.Reset(time.Hour)
			}
			select {
			case out <- struct{}{}:
			default:
			}
		}
	}()
	return out, func() {
		_, _, _ = unregister.Call(h)
		leave()
		close(done)
	}
}
