package inuse

import (
	"bufio"
	"bytes"
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
)

// Below reports who uses the folder at the real path dir or anything below
// it, by what lsof(8) says. This process is left out. An ordinary account
// sees its own programs only.
func Below(ctx context.Context, dir string) (Report, error) {
	// -F: fields by line; p process, c command, f descriptor, a access, n name.
	// It ends with 1 where it has found nothing.
	out, err := exec.CommandContext(ctx, "/usr/sbin/lsof", "-w", "-F", "pcfan", "+D", dir).Output()
	if _, found := err.(*exec.ExitError); err != nil && !found {
		return Report{}, err
	}
	if err := ctx.Err(); err != nil {
		return Report{}, err
	}
	return Report{Holders: listed(out), Complete: os.Geteuid() == 0}, nil
}

func listed(out []byte) (all []Holder) {
	var h Holder
	for lines := bufio.NewScanner(bytes.NewReader(out)); lines.Scan(); {
		line := lines.Text()
		if line == "" {
			continue
		}
		switch value := line[1:]; line[0] {
		case 'p':
			h = Holder{}
			h.PID, _ = strconv.Atoi(value) // 0 is nobody's
		case 'c':
			h.Program = value
		case 'f':
			h.How = map[string]How{"cwd": Working, "txt": Running, "mem": Mapped}[value]
		case 'a':
			if h.How == "" && (value == "w" || value == "u") {
				h.How = Writing
			}
		case 'n':
			if h.How == "" {
				h.How = Reading
			}
			if h.PID != os.Getpid() {
				h.Path = value
				all = append(all, h)
			}
		}
	}
	return all
}

// Called lists the processes of an account whose program has one of the
// names, by what ps(1) says; of all accounts if any is set. This process is
// left out.
func Called(ctx context.Context, names []string, uid uint32, any bool) ([]Holder, error) {
	out, err := exec.CommandContext(ctx, "/bin/ps", "-axo", "pid=,uid=,comm=").Output()
	if err != nil {
		return nil, err
	}
	var all []Holder
	for lines := bufio.NewScanner(bytes.NewReader(out)); lines.Scan(); {
		w := strings.Fields(lines.Text())
		if len(w) < 3 {
			continue
		}
		pid, err := strconv.Atoi(w[0])
		if err != nil || pid == os.Getpid() || !any && w[1] != strconv.FormatUint(uint64(uid), 10) {
			continue
		}
		if name := filepath.Base(strings.Join(w[2:], " ")); slices.Contains(names, name) {
			all = append(all, Holder{PID: pid, Program: name, How: Running})
		}
	}
	return all, nil
}
