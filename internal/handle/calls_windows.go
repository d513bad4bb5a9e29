package handle

import (
	"unsafe"

	"golang.org/x/sys/windows"
)

// calls are those of the system whose answers depend on drives, rights and programs that a test
// can't have: they go through values, so that a test can answer as the documentation says of each.
type calls struct {
	create      func(at windows.Handle, name string, access, disposition, options uint32) (windows.Handle, error)
	query       func(h windows.Handle, class uint32, out []byte) (n uintptr, err error)
	set         func(h windows.Handle, class uint32, in []byte) error
	control     func(h windows.Handle, code uint32, in, out []byte) (n uint32, err error)
	security    func(h windows.Handle, which windows.SECURITY_INFORMATION) (rightsOf, error)
	setSecurity func(h windows.Handle, which windows.SECURITY_INFORMATION, owner *windows.SID,
		dacl, sacl *windows.ACL) error
	volume   func(h windows.Handle) (flags uint32, err error)
	flush    func(h windows.Handle) error
	handOver func(h windows.Handle) error
	queryEA  func(h windows.Handle, out []byte) (n uintptr, err error)
	setEA    func(h windows.Handle, in []byte) error
}

// rightsOf says whose an entry is, and who may do what with it.
type rightsOf struct {
	owner *windows.SID // nil if it was not asked for, or there is none
	text  string       // in the form of package sddl
}

var (
	ntdll          = windows.NewLazySystemDLL("ntdll.dll")
	ntQueryEaFile  = ntdll.NewProc("NtQueryEaFile")
	ntSetEaFile    = ntdll.NewProc("NtSetEaFile")
	ntFlushBuffers = ntdll.NewProc("NtFlushBuffersFileEx")
)

// theSystem makes the calls themselves. Errors are the system's own.
var theSystem = calls{
	// NtCreateFile, with name in the directory at, or a path of the object manager if at is 0.
	create: func(at windows.Handle, name string, access, disposition, options uint32) (h windows.Handle, err error) {
		text, err := windows.NewNTUnicodeString(name)
		if err != nil {
			return 0, err
		}
		oa := windows.OBJECT_ATTRIBUTES{RootDirectory: at, ObjectName: text, Attributes: windows.OBJ_CASE_INSENSITIVE}
		oa.Length = uint32(unsafe.Sizeof(oa))
		var io windows.IO_STATUS_BLOCK
		err = windows.NtCreateFile(&h, access, &oa, &io, nil, windows.FILE_ATTRIBUTE_NORMAL, shared, disposition,
			options, 0, 0)
		return h, err
	},
	// NtQueryInformationFile
	query: func(h windows.Handle, class uint32, out []byte) (uintptr, error) {
		var io windows.IO_STATUS_BLOCK
		err := windows.NtQueryInformationFile(h, &io, &out[0], uint32(len(out)), class)
		return io.Information, err
	},
	// NtSetInformationFile
	set: func(h windows.Handle, class uint32, in []byte) error {
		var io windows.IO_STATUS_BLOCK
		return windows.NtSetInformationFile(h, &io, &in[0], uint32(len(in)), class)
	},
	// DeviceIoControl
	control: func(h windows.Handle, code uint32, in, out []byte) (n uint32, err error) {
		err = windows.DeviceIoControl(h, code, unsafe.SliceData(in), uint32(len(in)), &out[0], uint32(len(out)), &n,
			nil)
		return n, err
	},
	// GetSecurityInfo
	security: func(h windows.Handle, which windows.SECURITY_INFORMATION) (r rightsOf, err error) {
		sd, err := windows.GetSecurityInfo(h, windows.SE_FILE_OBJECT, which)
		if err != nil {
			return r, err
		}
		r.owner, _, _ = sd.Owner()
		r.text = sd.String()
		return r, nil
	},
	// SetSecurityInfo
	setSecurity: func(h windows.Handle, which windows.SECURITY_INFORMATION, owner *windows.SID,
		dacl, sacl *windows.ACL) error {
		return windows.SetSecurityInfo(h, windows.SE_FILE_OBJECT, which, owner, nil, dacl, sacl)
	},
	// GetVolumeInformationByHandle
	volume: func(h windows.Handle) (flags uint32, err error) {
		err = windows.GetVolumeInformationByHandle(h, nil, 0, nil, nil, &flags, nil, 0)
		return flags, err
	},
	flush: windows.FlushFileBuffers,
	// NtFlushBuffersFileEx, FLUSH_FLAGS_NO_SYNC
	handOver: func(h windows.Handle) error {
		const noSync = 2
		if err := ntFlushBuffers.Find(); err != nil {
			return err
		}
		var io windows.IO_STATUS_BLOCK
		status, _, _ := ntFlushBuffers.Call(uintptr(h), noSync, 0, 0, uintptr(unsafe.Pointer(&io)))
		return failed(status)
	},
	// NtQueryEaFile, from the first one on
	queryEA: func(h windows.Handle, out []byte) (uintptr, error) {
		var io windows.IO_STATUS_BLOCK
		status, _, _ := ntQueryEaFile.Call(uintptr(h), uintptr(unsafe.Pointer(&io)), uintptr(unsafe.Pointer(&out[0])),
			uintptr(len(out)), 0, 0, 0, 0, 1)
		return io.Information, failed(status)
	},
	// NtSetEaFile
	setEA: func(h windows.Handle, in []byte) error {
		var io windows.IO_STATUS_BLOCK
		status, _, _ := ntSetEaFile.Call(uintptr(h), uintptr(unsafe.Pointer(&io)), uintptr(unsafe.Pointer(&in[0])),
			uintptr(len(in)))
		return failed(status)
	},
}

// failed is a status of the system as an error, nil for success.
func failed(status uintptr) error {
	if int32(status) < 0 {
		return windows.NTStatus(status)
	}
	return nil
}

// system is what is called.
var system = theSystem
