package account

import (
	"bufio"
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Lists says that the accounts of this system can be listed.
const Lists = true

// An Entry is an account of this system, as passwd(5) has it.
type Entry struct {
	Name     string
	UID, GID uint32
	Home     string // absolute and clean
	Shell    string
}

// Lines longer than this are passed over, in bytes.
const lineLimit = 1 << 20

// askWithin is how long the system's name service may take to answer.
const askWithin = 10 * time.Second

// All lists the accounts in /etc/passwd that have a home. Those that another name service
// knows are found by [Named] alone.
func All() []Entry { return readPasswd("/etc/passwd") }

func readPasswd(path string) (out []Entry) {
	lines(path, func(line string) {
		if e, ok := parseEntry(line); ok {
			out = append(out, e)
		}
	})
	return out
}

// lines gives each line of a file; none of one that can't be read.
func lines(path string, each func(string)) {
	f, err := os.Open(path)
	if err != nil {
		return
	}
	defer f.Close()
	in := bufio.NewScanner(f)
	in.Buffer(nil, lineLimit)
	for in.Scan() {
		each(in.Text())
	}
}

// parseEntry reads a line of passwd(5); ok is false if it is none of an account with a home.
func parseEntry(line string) (e Entry, ok bool) {
	w := strings.Split(line, ":")
	if len(w) < 6 || w[0] == "" || !filepath.IsAbs(w[5]) {
		return e, false
	}
	uid, err := strconv.ParseUint(w[2], 10, 32)
	if err != nil {
		return e, false
	}
	gid, err := strconv.ParseUint(w[3], 10, 32)
	if err != nil {
		return e, false
	}
	e = Entry{Name: w[0], UID: uint32(uid), GID: uint32(gid), Home: filepath.Clean(w[5])}
	if len(w) > 6 {
		e.Shell = w[6]
	}
	return e, true
}

// Named asks the system's name service for accounts by their names (getent(1)); those that
// it does not know are left out.
func Named(names []string) (out []Entry) {
	if len(names) == 0 {
		return nil
	}
	for _, line := range ask(append([]string{"passwd"}, names...)) {
		if e, ok := parseEntry(line); ok {
			out = append(out, e)
		}
	}
	return out
}

func ask(args []string) []string {
	ctx, cancel := context.WithTimeout(context.Background(), askWithin)
	defer cancel()
	c := exec.CommandContext(ctx, "getent", args...)
	c.Env = []string{"PATH=/usr/bin:/bin", "LC_ALL=C"}
	text, _ := c.Output() // its status is 2 where it does not know one of them
	return strings.Split(string(text), "\n")
}

// Members are the names of a group's accounts: those that group(5) lists, and those of all
// whose own group it is.
func Members(group string, all []Entry) (out []string) {
	line := ""
	lines("/etc/group", func(l string) {
		if strings.HasPrefix(l, group+":") {
			line = l
		}
	})
	if line == "" {
		for _, l := range ask([]string{"group", group}) {
			if strings.HasPrefix(l, group+":") {
				line = l
			}
		}
	}
	w := strings.Split(line, ":")
	if len(w) < 4 {
		return nil
	}
	for _, name := range strings.Split(w[3], ",") {
		if name != "" {
			out = append(out, name)
		}
	}
	if gid, err := strconv.ParseUint(w[2], 10, 32); err == nil {
		for _, e := range all {
			if e.GID == uint32(gid) && !slices.Contains(out, e.Name) {
				out = append(out, e.Name)
			}
		}
	}
	return out
}

// The numbers of accounts of people, unless login.defs(5) says otherwise.
const (
	peopleFrom = 1000
	peopleTo   = 60000
)

// People gives the accounts that people log in with: by their numbers (login.defs(5)), with
// a shell that lets them in.
func People(all []Entry) []Entry {
	from, to := numbersOfPeople()
	return slices.DeleteFunc(slices.Clone(all), func(e Entry) bool {
		shell := filepath.Base(e.Shell)
		return uint64(e.UID) < from || uint64(e.UID) > to || shell == "nologin" || shell == "false"
	})
}

// Services gives the accounts that services run as, by their numbers (login.defs(5)): their homes are where
// they keep their data. The administrator's is none of them.
func Services(all []Entry) []Entry {
	from, _ := numbersOfPeople()
	return slices.DeleteFunc(slices.Clone(all), func(e Entry) bool { return e.UID == 0 || uint64(e.UID) >= from })
}

// numbersOfPeople are the first and the last number of a person's account.
func numbersOfPeople() (from, to uint64) {
	from, to = peopleFrom, peopleTo
	lines("/etc/login.defs", func(l string) {
		w := strings.Fields(l)
		if len(w) < 2 {
			return
		}
		if n, err := strconv.ParseUint(w[1], 10, 32); err == nil {
			switch w[0] {
			case "UID_MIN":
				from = n
			case "UID_MAX":
				to = n
			}
		}
	})
	return from, to
}
