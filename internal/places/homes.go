package places

import (
	"os"
	"path/filepath"
	"runtime"

	"nexlin/internal/account"
	"nexlin/internal/handle"
	"nexlin/internal/pathtext"
)

// Homes lists the home directories of this machine's accounts (passwd(5))
// and the one of whoever runs this: none of them may be moved. A service's is
// where it keeps its data, a folder as any other, unless it lies among people's.
func Homes(own string) []string {
	var out []string
	if own != "" {
		out = append(out, own)
		if real, err := handle.Real(own); err == nil && real != own {
			out = append(out, real)
		}
	}
	if runtime.GOOS != "linux" {
		return append(out, beside(own)...)
	}
	return append(out, protectedHomes(account.All())...)
}

func protectedHomes(all []account.Entry) (out []string) {
	services := map[account.Entry]bool{}
	for _, a := range account.Services(all) {
		services[a] = true
	}
	for _, a := range all {
		if pathtext.Within(a.Home, "/home") || !services[a] {
			out = append(out, a.Home)
		}
	}
	return out
}

// beside lists the directories that lie where one's own home does: C:\Users or
// /Users has one for each account.
func beside(own string) (out []string) {
	all, err := os.ReadDir(filepath.Dir(own))
	if err != nil || own == "" {
		return nil
	}
	for _, e := range all {
		if e.IsDir() {
			out = append(out, filepath.Join(filepath.Dir(own), e.Name()))
		}
	}
	return out
}
