// Package account knows accounts of this system by number and by name.
package account

import (
	"os"
	"os/user"
	"strings"
)

// me is the account that runs this: the only one that has a number here.
func me() (name, home string) {
	u, err := user.Current()
	if err != nil {
		return "", ""
	}
	return u.Username[strings.LastIndexByte(u.Username, '\\')+1:], u.HomeDir
}

// Name is the name of the account that runs this.
func Name(uint32) string {
	name, _ := me()
	return name
}

// Of finds an account by its name; only the one that runs this is known.
func Of(name string) (uid uint32, home string, ok bool) {
	own, home := me()
	return uint32(os.Geteuid()), home, strings.EqualFold(name, own)
}

// Group is an account's own group: there is none.
func Group(uid uint32) uint32 { return uid }
