package inuse

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"unsafe"

	"golang.org/x/sys/windows"

	"nexlin/internal/handle"
)

// most is how many files the restart manager is asked about: it looks at each.
const most = 20_000

var errEnough = errors.New("enough files seen")

// Below reports who uses a file or a directory below the folder at the real path dir. Of directories
// the file system says which processes have them open, as a working directory or as a window
// of the desktop: that keeps the folder from being renamed, and nobody from reading. Of files the
// restart manager says it, and tells neither which of them nor how. This process is left out.
// The report is complete only if there were not too many entries to ask about, and the answer is
// one: under Wine nothing stands behind it.
func Below(ctx context.Context, dir string) (Report, error) {
	r := Report{Complete: !handle.Emulated()}
	var files []*uint16
	dirs := 0
	err := filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case err != nil:
			r.Complete = false
			return nil
		case e.IsDir():
			if dirs++; dirs > most {
				r.Complete = false
				return errEnough
			}
			held, err := usersOf(path)
			r.Holders, r.Complete = append(r.Holders, held...), r.Complete && err == nil
			return nil
		case !e.Type().IsRegular():
			return nil
		case len(files) == most:
			r.Complete = false
			return errEnough
		}
		p, err := windows.UTF16PtrFromString(path)
		if err == nil {
			files = append(files, p)
		}
		return nil
	})
	if err != nil && !errors.Is(err, errEnough) || len(files) == 0 {
		return r, err
	}
	found, err := holdersOf(files, dir)
	if err != nil {
		r.Complete = false // the service may be off; then nobody knows
		return r, nil
	}
	r.Holders = append(r.Holders, found...)
	return r, nil
}

// usersOf asks which processes have a directory open (FileProcessIdsUsingFileInformation).
func usersOf(dir string) (out []Holder, err error) {
	name, err := windows.UTF16PtrFromString(dir)
	if err != nil {
		return nil, err
	}
	h, err := windows.CreateFile(name, windows.FILE_READ_ATTRIBUTES,
		windows.FILE_SHARE_READ|windows.FILE_SHARE_WRITE|windows.FILE_SHARE_DELETE, nil, windows.OPEN_EXISTING,
		windows.FILE_FLAG_BACKUP_SEMANTICS|windows.FILE_FLAG_OPEN_REPARSE_POINT, 0)
	if err != nil {
		return nil, err
	}
	defer windows.CloseHandle(h)
	const fileProcessIdsUsingFile = 47
	var ids struct {
		count uint32
		list  [1024]uintptr
	}
	var status windows.IO_STATUS_BLOCK
	if err = windows.NtQueryInformationFile(h, &status, (*byte)(unsafe.Pointer(&ids)), uint32(unsafe.Sizeof(ids)),
		fileProcessIdsUsingFile); err != nil {
		return nil, err
	}
	for _, id := range ids.list[:min(int(ids.count), len(ids.list))] {
		if int(id) != os.Getpid() {
			out = append(out, Holder{PID: int(id), Program: programOf(uint32(id)), Path: dir, How: Directory})
		}
	}
	return out, nil
}

// programOf is the name of a process' program, where this account may know it.
func programOf(pid uint32) string {
	h, err := windows.OpenProcess(windows.PROCESS_QUERY_LIMITED_INFORMATION, false, pid)
	if err != nil {
		return "a program"
	}
	defer windows.CloseHandle(h)
	buf := make([]uint16, windows.MAX_LONG_PATH)
	n := uint32(len(buf))
	if err = windows.QueryFullProcessImageName(h, 0, &buf[0], &n); err != nil {
		return "a program"
	}
	return filepath.Base(windows.UTF16ToString(buf[:n]))
}

var (
	rstrtmgr   = windows.NewLazySystemDLL("rstrtmgr.dll")
	rmStart    = rstrtmgr.NewProc("RmStartSession")
	rmRegister = rstrtmgr.NewProc("RmRegisterResources")
	rmGetList  = rstrtmgr.NewProc("RmGetList")
	rmEnd      = rstrtmgr.NewProc("RmEndSession")
)

// rmProcess is RM_PROCESS_INFO.
type rmProcess struct {
	pid     uint32
	started windows.Filetime
	app     [256]uint16
	service [64]uint16
	kind    uint32
	status  uint32
	session uint32
	restart uint32
}

func holdersOf(files []*uint16, dir string) ([]Holder, error) {
	if err := rmGetList.Find(); err != nil {
		return nil, err
	}
	var session uint32
	var key [33]uint16
	if e, _, _ := rmStart.Call(uintptr(unsafe.Pointer(&session)), 0, uintptr(unsafe.Pointer(&key[0]))); e != 0 {
		return nil, syscall.Errno(e)
	}
	defer rmEnd.Call(uintptr(session))
	for part := range slices.Chunk(files, 1000) {
		if e, _, _ := rmRegister.Call(uintptr(session), uintptr(len(part)), uintptr(unsafe.Pointer(&part[0])), 0, 0,
			0, 0); e != 0 {
			return nil, syscall.Errno(e)
		}
	}
	for room := uint32(16); ; {
		list := make([]rmProcess, room)
		need, have, reasons := uint32(0), room, uint32(0)
		e, _, _ := rmGetList.Call(uintptr(session), uintptr(unsafe.Pointer(&need)), uintptr(unsafe.Pointer(&have)),
			uintptr(unsafe.Pointer(&list[0])), uintptr(unsafe.Pointer(&reasons)))
		switch {
		case syscall.Errno(e) == windows.ERROR_MORE_DATA && need > room:
			room = need + 8
			continue
		case e != 0:
			return nil, syscall.Errno(e)
		}
		var out []Holder
		for _, p := range list[:min(have, room)] {
			if int(p.pid) != os.Getpid() {
				out = append(out, Holder{PID: int(p.pid), Program: windows.UTF16ToString(p.app[:]), Path: dir,
					How: Somehow, Service: windows.UTF16ToString(p.service[:])})
			}
		}
		return out, nil
	}
}

// Called lists the processes whose program has one of the names, with or
// without its .exe. This process is left out; accounts are not told apart.
func Called(ctx context.Context, names []string, _ uint32, _ bool) ([]Holder, error) {
	all, err := windows.CreateToolhelp32Snapshot(windows.TH32CS_SNAPPROCESS, 0)
	if err != nil {
		return nil, err
	}
	defer windows.CloseHandle(all)
	var out []Holder
	p := windows.ProcessEntry32{}
	p.Size = uint32(unsafe.Sizeof(p))
	for err = windows.Process32First(all, &p); err == nil && ctx.Err() == nil; err = windows.Process32Next(all, &p) {
		name := windows.UTF16ToString(p.ExeFile[:])
		short := strings.TrimSuffix(strings.ToLower(name), ".exe")
		if int(p.ProcessID) != os.Getpid() && slices.ContainsFunc(names, func(n string) bool {
			return strings.TrimSuffix(strings.ToLower(n), ".exe") == short
		}) {
			out = append(out, Holder{PID: int(p.ProcessID), Program: name, How: Running})
		}
	}
	if errors.Is(err, windows.ERROR_NO_MORE_FILES) {
		err = nil
	}
	return out, errors.Join(err, ctx.Err())
}
