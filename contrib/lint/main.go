// Command lint says where the source breaks a rule of the house that no tool knows:
// lines end at 120 columns, and what a kind of run does is asked of its kind, in one
// file, and not found out by comparing names.
package main

import (
	"bufio"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"unicode/utf8"
)

const columns = 120 // a tab is four

var kinds = regexp.MustCompile(`Kind [!=]= (plan\.)?Kind[A-Z]|case (plan\.)?Kind[A-Z]`)

// registry may compare kinds.
const registry = "internal/plan/kinds.go"

func main() {
	broken := 0
	for _, root := range []string{"cmd", "contrib", "internal"} {
		err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return err
			}
			n, err := look(path)
			broken += n
			return err
		})
		if err != nil {
			fmt.Fprintln(os.Stderr, "lint:", err)
			os.Exit(2)
		}
	}
	if broken > 0 {
		os.Exit(1)
	}
}

func look(path string) (broken int, err error) {
	f, err := os.Open(path)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	say := func(line int, what string) {
		fmt.Printf("%s:%d: %s\n", path, line, what)
		broken++
	}
	lines := bufio.NewScanner(f)
	for n := 1; lines.Scan(); n++ {
		text := lines.Text()
		if utf8.RuneCountInString(text)+3*strings.Count(text, "\t") > columns {
			say(n, "more than 120 columns")
		}
		if kinds.MatchString(text) && filepath.ToSlash(path) != registry {
			say(n, "a kind of run is compared outside "+registry)
		}
	}
	return broken, lines.Err()
}
