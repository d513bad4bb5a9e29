// Package sddl reads what access lists of Windows say, in the form in which the system writes
// them as text (security descriptor string format). It makes no system call, so it is the
// same on every system.
package sddl

import (
	"slices"
	"strconv"
	"strings"
)

// A list is the part of a descriptor that grants and denies.
type list struct {
	found bool
	flags string
	aces  []string // each with its brackets
}

func parse(text string) (l list) {
	_, text, l.found = strings.Cut(text, "D:")
	text, _, _ = strings.Cut(text, "S:")
	l.flags = text
	if i := strings.IndexByte(text, '('); i >= 0 {
		l.flags = text[:i]
		for ace := range strings.SplitAfterSeq(text[i:], ")") {
			if strings.HasPrefix(ace, "(") && strings.HasSuffix(ace, ")") {
				l.aces = append(l.aces, ace)
			}
		}
	}
	return l
}

// Explicit is the part of a descriptor's access list that was given to the entry itself; empty
// if all is inherited.
func Explicit(text string) string {
	l := parse(text)
	out := "D:"
	if strings.Contains(l.flags, "P") {
		out += "P"
	}
	for _, ace := range l.aces {
		if part := fields(ace); len(part) > 1 && !strings.Contains(part[1], "ID") {
			out += ace
		}
	}
	if !l.found || out == "D:" {
		return ""
	}
	return out
}

// Label is the mandatory integrity label that was given to the entry itself, as its part of a
// descriptor; empty if it has none, or an inherited one.
func Label(text string) string {
	_, text, _ = strings.Cut(text, "S:")
	for ace := range strings.SplitAfterSeq(text, ")") {
		_, ace, found := strings.Cut(ace, "(")
		part := fields(ace)
		if found && strings.HasSuffix(ace, ")") && len(part) >= 6 && part[0] == "ML" &&
			!strings.Contains(part[1], "ID") {
			return "S:(" + ace
		}
	}
	return ""
}

// low are the levels up to that of what an ordinary program runs as: untrusted, low, medium.
var low = []string{"LW", "ME", "S-1-16-0", "S-1-16-4096", "S-1-16-8192"}

// Above reports a label above the level of ordinary programs.
func Above(label string) bool {
	part := fields(strings.TrimPrefix(label, "S:"))
	return len(part) < 6 || !slices.Contains(low, part[5])
}

// fields are type, flags, rights, two that are for other objects, and who.
func fields(ace string) []string { return strings.Split(strings.Trim(ace, "()"), ";") }

// others stand for everybody who can sign in, or more: everyone, authenticated accounts, the
// group of users, whoever sits there, guests, a domain's users.
var others = []string{"WD", "AU", "BU", "IU", "BG", "AN", "DU", "DG", "S-1-1-0", "S-1-5-11", "S-1-5-32-545", "S-1-5-4"}

// Open reports whether a descriptor lets other accounts read: the entry itself, or, with below,
// what is made in it. A list that denies first is not followed: it is told as open.
func Open(text string, below bool) bool {
	l := parse(text)
	if !l.found || strings.Contains(l.flags, "NO_ACCESS_CONTROL") {
		return true // without a list everybody may do everything
	}
	return slices.ContainsFunc(l.aces, func(ace string) bool {
		part := fields(ace)
		if len(part) < 6 || part[0] != "A" && part[0] != "XA" || !slices.Contains(others, part[5]) {
			return false
		}
		counts := !strings.Contains(part[1], "IO")
		if below {
			counts = strings.Contains(part[1], "OI") || strings.Contains(part[1], "CI")
		}
		return counts && reads(part[2])
	})
}

// reads reports rights that allow reading data: a number, or codes of two letters.
func reads(rights string) bool {
	const data, genericRead, genericAll = 0x1, 0x80000000, 0x10000000
	if n, err := strconv.ParseUint(rights, 0, 32); err == nil {
		return n&(data|genericRead|genericAll) != 0
	}
	for code := range slices.Chunk([]byte(rights), 2) {
		if slices.Contains([]string{"GA", "GR", "FA", "FR", "CC"}, string(code)) {
			return true
		}
	}
	return false
}
