package preflight

import (
	"strings"

	"golang.org/x/sys/windows/registry"
)

// SyncRoots are those that providers have told the system of. What can't be read says nothing.
func SyncRoots(string) (out []SyncRoot) {
	const manager = `SOFTWARE\Microsoft\Windows\CurrentVersion\Explorer\SyncRootManager`
	look := func(path string, with func(registry.Key)) {
		k, err := registry.OpenKey(registry.LOCAL_MACHINE, path, registry.READ|registry.WOW64_64KEY)
		if err == nil {
			defer k.Close()
			with(k)
		}
	}
	var ids []string
	look(manager, func(k registry.Key) { ids, _ = k.ReadSubKeyNames(-1) })
	for _, id := range ids {
		name, _, _ := strings.Cut(id, "!") // the provider's id, then the account here and there
		look(manager+`\`+id, func(k registry.Key) {
			if shown, _, err := k.GetStringValue("DisplayNameResource"); err == nil && !strings.HasPrefix(shown, "@") {
				name = shown
			}
		})
		look(manager+`\`+id+`\UserSyncRoots`, func(k registry.Key) {
			accounts, _ := k.ReadValueNames(-1)
			for _, a := range accounts {
				if path, _, err := k.GetStringValue(a); err == nil && path != "" {
					out = append(out, SyncRoot{Provider: name, Path: strings.TrimRight(path, `\`)})
				}
			}
		})
	}
	return out
}
