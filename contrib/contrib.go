// Package contrib holds what helps to run Nexlin on a system: units for
// systemd's user manager.
package contrib

import "embed"

// Units are the unit files, by name.
//
//go:embed *.service *.timer
var Units embed.FS
