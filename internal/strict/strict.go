// Package strict reads YAML files that people write: an unknown key or a value of another
// kind is a mistake with its place, and so is what the reader of one kind of file finds
// wrong. It knows no kind of file.
package strict

import (
	"bytes"
	"errors"
	"fmt"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"nexlin/internal/setting"
)

// A MistakeError is a mistake in a file that a person writes.
type MistakeError struct {
	File         string
	Line, Column int // 0 where it is about the whole file
	What         string
}

func (e *MistakeError) Error() string {
	if e.Line == 0 {
		return fmt.Sprintf("%s: %s", e.File, e.What)
	}
	return fmt.Sprintf("%s:%d:%d: %s", e.File, e.Line, e.Column, e.What)
}

// A Document is a file that was read, for looking at what it says.
type Document struct {
	file string
	tree *ast.File
	err  error
}

// Err is the first mistake that was found, a *MistakeError; nil if there is none.
func (d *Document) Err() error { return d.err }

// Decode reads data, which file has, into out, a pointer to a struct. The error is a
// *MistakeError.
func Decode(file string, data []byte, out any) (d *Document, err error) {
	// The reader comes down on some files that are no YAML.
	defer func() {
		if r := recover(); r != nil {
			d, err = nil, &MistakeError{file, 0, 0, "it can't be read as YAML"}
		}
	}()
	if err := setting.CheckDepth(data); err != nil {
		return nil, &MistakeError{file, 0, 0, err.Error()}
	}
	f, err := parser.ParseBytes(data, 0)
	if err != nil {
		return nil, mistake(file, err)
	}
	if err := yaml.NewDecoder(bytes.NewReader(data), yaml.Strict()).Decode(out); err != nil {
		return nil, mistake(file, err)
	}
	return &Document{file: file, tree: f}, nil
}

// mistake turns the reader's error, which has its place in its text, into ours.
func mistake(file string, err error) error {
	m := &MistakeError{File: file, What: err.Error()}
	var tok yaml.Error
	if errors.As(err, &tok) {
		m.What = tok.GetMessage()
		if t := tok.GetToken(); t != nil && t.Position != nil {
			m.Line, m.Column = t.Position.Line, t.Position.Column
		}
	}
	m.What, _, _ = strings.Cut(m.What, "\n")
	return m
}

// Fail reports a mistake at a path of the document, or at the nearest one
// above that is there.
func (d *Document) Fail(path, format string, args ...any) {
	if d.err != nil {
		return
	}
	m := &MistakeError{File: d.file, Line: 1, Column: 1, What: fmt.Sprintf(format, args...)}
	for at := path; ; {
		if p, err := yaml.PathString(at); err == nil {
			if n, err := p.FilterFile(d.tree); err == nil && n != nil && n.GetToken() != nil {
				pos := n.GetToken().Position
				m.Line, m.Column = pos.Line, pos.Column
				break
			}
		}
		i := strings.LastIndexAny(at, ".[")
		if i <= 0 {
			break
		}
		at = at[:i]
	}
	d.err = m
}
