package accounts

import (
	_ "embed"
	"strings"
)

// Example is an accounts file that tells what may stand in one.
//
//go:embed example.yaml
var Example string

// A Unit is a file for the system's service manager (systemd.unit(5)).
type Unit struct{ Name, Text string }

// Units are those that apply an accounts file at every start and once an hour, for accounts
// and drives that come later. program and file are absolute paths; so is numbers, where a
// check keeps them after every apply, if it is not empty.
func Units(program, file, numbers string) []Unit {
	lines := "ExecStart=" + quoted(program) + " accounts apply --yes --quiet " + quoted(file)
	if numbers != "" { // of an apply that failed, too
		lines += "\nExecStopPost=-" + quoted(program) + " check --quiet --metrics-file " + quoted(numbers)
	}
	return []Unit{
		{"nexlin-accounts.service", `[Unit]
Description=Folders of accounts on other drives, as declared
Documentation=man:nexlin-accounts(1)
After=local-fs.target nss-user-lookup.target
ConditionPathExists=` + strings.ReplaceAll(file, "%", "%%") + `

[Service]
Type=oneshot
` + lines + `
Nice=10
IOSchedulingClass=idle
`},
		{"nexlin-accounts.timer", `[Unit]
Description=Folders of accounts on other drives, once an hour

[Timer]
OnBootSec=2min
OnUnitActiveSec=1h
RandomizedDelaySec=5min

[Install]
WantedBy=timers.target
`},
	}
}

// quoted is an argument in a command line of a unit (systemd.syntax(7)).
func quoted(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "%", "%%", "$", "$$").Replace(s) + `"`
}

// LoginLine is a line for pam.conf(5) that serves the account that logs in, by pam_exec(8).
func LoginLine(program, file string) string {
	return "session optional pam_exec.so quiet " + program + " accounts apply --login --yes --quiet [" +
		strings.ReplaceAll(file, "]", `\]`) + "]"
}
