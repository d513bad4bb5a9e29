//go:build !linux

package account

// Lists says that the accounts of this system can be listed.
const Lists = false

// An Entry is an account of this system.
type Entry struct {
	Name     string
	UID, GID uint32
	Home     string // absolute and clean
	Shell    string
}

// All lists the accounts of this system: none are known here yet.
func All() []Entry { return nil }

// Named finds accounts by their names: none are known here yet.
func Named([]string) []Entry { return nil }

// Members are the names of a group's accounts: none are known here yet.
func Members(string, []Entry) []string { return nil }

// People gives the accounts that people log in with.
func People(all []Entry) []Entry { return all }

// Services gives the accounts that services run as: none is known here.
func Services([]Entry) []Entry { return nil }
