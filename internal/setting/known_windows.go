package setting

import (
	"errors"
	"fmt"
	"syscall"
	"unsafe"

	"golang.org/x/sys/windows"
	"golang.org/x/sys/windows/registry"

	"nexlin/internal/handle"
)

// shellFolders is where Windows keeps the locations of an account's known
// folders.
const shellFolders = `Software\Microsoft\Windows\CurrentVersion\Explorer\User Shell Folders`

// knownFile is how the key is written for people, as the file that holds the
// values.
const knownFile = `HKEY_CURRENT_USER\` + shellFolders

func openKnown() (registry.Key, error) {
	key, _, err := registry.CreateKey(registry.CURRENT_USER, shellFolders, registry.QUERY_VALUE|registry.SET_VALUE)
	if err != nil {
		err = fmt.Errorf("%s: %w", knownFile, err)
	}
	return key, err
}

// profiles lists the folders of the account that runs this; others' settings
// are not loaded while they are not logged in.
func profiles(home string) ([]Profile, error) {
	key, err := openKnown()
	if err != nil {
		return nil, err
	}
	defer key.Close()
	return knownProfiles(registryKey{key}, home)
}

func placesOf(_, kind string) (out []Place) {
	for _, f := range knownFolders {
		if f.kind == kind {
			out = append(out, Place{File: knownFile, Format: KnownFolder, At: "/" + escape(f.value), Key: f.value})
		}
	}
	return out
}

func kindsHere() (out []string) {
	for _, f := range knownFolders {
		out = append(out, f.kind)
	}
	return out
}

// ReadKnown reads the value of that name. What the file then does goes through
// a key of its own.
func ReadKnown(name string) (*File, error) { return readValue(registryKey{}, name) }

// registryKey is a key that is open, or, as the zero value, one that is opened
// for each call.
type registryKey struct{ key registry.Key }

func (r registryKey) with(do func(registry.Key) error) error {
	if r.key != 0 {
		return do(r.key)
	}
	key, err := openKnown()
	if err != nil {
		return err
	}
	defer key.Close()
	return do(key)
}

func (r registryKey) Get(name string) (text string, ok bool, err error) {
	err = r.with(func(k registry.Key) error {
		text, _, err = k.GetStringValue(name)
		if ok = err == nil; errors.Is(err, registry.ErrNotExist) {
			return nil
		}
		return err
	})
	return text, ok, err
}

// Set has the shell move the folder, and writes the value as it is to be kept, with its
// variables. Where the shell has no such call the value is all there is.
func (r registryKey) Set(name, text string) error {
	ids, _ := shellKnows(name)
	return r.telling(ids, text, func(k registry.Key) error { return k.SetExpandStringValue(name, text) })
}

func (r registryKey) Delete(name string) error {
	ids, fallback := shellKnows(name)
	return r.telling(ids, fallback, func(k registry.Key) error {
		if err := k.DeleteValue(name); !errors.Is(err, registry.ErrNotExist) {
			return err
		}
		return nil
	})
}

// telling changes the key once the shell has been asked to move a folder, and tells
// programs that wait for such news.
func (r registryKey) telling(ids []string, text string, change func(registry.Key) error) error {
	path, err := registry.ExpandString(text)
	if err == nil {
		err = movedByShell(ids, path)
	}
	if err == nil {
		err = r.with(change)
	}
	if err == nil {
		tellShell(path)
	}
	return err
}

var (
	shell32     = windows.NewLazySystemDLL("shell32.dll")
	setKnown    = shell32.NewProc("SHSetKnownFolderPath")
	changed     = shell32.NewProc("SHChangeNotify")
	sendMessage = windows.NewLazySystemDLL("user32.dll").NewProc("SendMessageTimeoutW")
)

// movedByShell sets where the shell finds a folder (SHSetKnownFolderPath), by each of its
// identifiers. One that a version of the system does not know is passed over, but for the
// first.
func movedByShell(ids []string, path string) error {
	for i, id := range ids {
		guid, err := windows.GUIDFromString(id)
		if err != nil {
			return err
		}
		if result, asked := askShell(&guid, path); asked && i == 0 && int32(result) < 0 {
			return fmt.Errorf("the system did not take %s as the folder's place: %w", path, syscall.Errno(result))
		}
	}
	return nil
}

// askShell makes the call, for this account and without flags; false where there is none. Tests answer
// in its place.
var askShell = func(folder *windows.GUID, path string) (result uint32, asked bool) {
	to, err := windows.UTF16PtrFromString(path)
	if err != nil || setKnown.Find() != nil || handle.Emulated() {
		return 0, false
	}
	r, _, _ := setKnown.Call(uintptr(unsafe.Pointer(folder)), 0, 0, uintptr(unsafe.Pointer(to)))
	return uint32(r), true
}

// tellShell tells the desktop and other programs that a folder has moved. Nobody has to hear it; tests
// tell nobody.
var tellShell = func(path string) {
	const updateDir, asPath, broadcast, settingChange, abortIfHung, second = 0x1000, 5, 0xffff, 0x1a, 2, 1000
	if p, err := windows.UTF16PtrFromString(path); err == nil && changed.Find() == nil {
		_, _, _ = changed.Call(updateDir, asPath, uintptr(unsafe.Pointer(p)), 0)
	}
	if sendMessage.Find() == nil {
		var answer uintptr
		_, _, _ = sendMessage.Call(broadcast, settingChange, 0, 0, abortIfHung, second,
			uintptr(unsafe.Pointer(&answer)))
	}
}
