package setting

import (
	"bytes"
	"errors"
)

// ErrDeep reports a file that is nested more deeply than anybody writes: what
// reads it would run out of stack, and that can't be caught.
var ErrDeep = errors.New("it is nested too deeply")

// CheckDepth looks how deep a YAML or TOML file may be nested, before anything
// reads it: by brackets, by indentation, by dashes in one line, by dots in a key.
// It counts too much rather than too little.
func CheckDepth(data []byte) error {
	brackets := 0
	var indents []int
	for line := range bytes.Lines(data) {
		indents = indented(indents, line)
		dots, inKey := 0, true
		for _, c := range line {
			switch c {
			case '[', '{':
				brackets++
			case ']', '}':
				brackets = max(0, brackets-1)
			case '.':
				if inKey {
					dots++
				}
			case '=', ':', '"', '\'', '#':
				inKey = false
			}
			if brackets > maxDepth {
				return ErrDeep
			}
		}
		if len(indents) > maxDepth || dots > maxDepth {
			return ErrDeep
		}
	}
	return nil
}

// indented gives the columns at which the blocks begin that a line lies in.
func indented(open []int, line []byte) []int {
	at := 0
	begin := func() {
		for len(open) > 0 && open[len(open)-1] >= at {
			open = open[:len(open)-1]
		}
		open = append(open, at)
	}
	for ; at < len(line) && len(open) <= maxDepth; at++ {
		switch c := line[at]; {
		case c == ' ' || c == '\t':
		case (c == '-' || c == '?' || c == ':') && at+1 < len(line) &&
			(line[at+1] == ' ' || line[at+1] == '\t' || line[at+1] == '\n'):
			begin()
		case c == '\n' || c == '\r':
			return open // an empty line says nothing
		default:
			begin()
			return open
		}
	}
	return open
}
