package redirect

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

func accountName(uint32) string {
	name, _ := me()
	return name
}

// accountOf finds an account by its name; only the one that runs this is known.
func accountOf(name string) (uid uint32, home string, ok bool) {
	own, home := me()
	return uint32(os.Geteuid()), home, strings.EqualFold(name, own)
}

func accountGroup(uid uint32) uint32 { return uid }
