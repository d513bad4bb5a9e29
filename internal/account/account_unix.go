//go:build !windows

// Package account knows accounts of this system by number and by name.
package account

import (
	"os/user"
	"strconv"
)

// Name is an account's name; its number where it has none.
func Name(uid uint32) string {
	u, err := user.LookupId(strconv.FormatUint(uint64(uid), 10))
	if err != nil {
		return strconv.FormatUint(uint64(uid), 10)
	}
	return u.Username
}

// Of finds an account by its name, or by its number where it has no
// name; home is empty if it has none here.
func Of(name string) (uid uint32, home string, ok bool) {
	u, err := user.Lookup(name)
	if err != nil {
		u = &user.User{Uid: name}
	}
	n, err := strconv.ParseUint(u.Uid, 10, 32)
	return uint32(n), u.HomeDir, err == nil
}

// Group is an account's own group; for an account without a name the
// number of the account.
func Group(uid uint32) uint32 {
	u, err := user.LookupId(strconv.FormatUint(uint64(uid), 10))
	if err == nil {
		if gid, err := strconv.ParseUint(u.Gid, 10, 32); err == nil {
			return uint32(gid)
		}
	}
	return uid
}
