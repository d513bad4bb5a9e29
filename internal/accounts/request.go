package accounts

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"nexlin/internal/handle"
	"nexlin/internal/pathtext"
)

// RequestLimit bounds a request, in bytes.
const RequestLimit = 1 << 20

// engineOwn begins the keys by which an engine says how it wants a request carried out;
// those that mean nothing here are none of ours.
const engineOwn = "_ansible_"

// RequestKeys are the arguments that a person may give in a request.
var RequestKeys = []string{"content", "file", "only", "state"}

// A Request is what an engine that looks after many machines asks of this one.
type Request struct {
	File     string   // the accounts file, absolute; empty where there is Content
	Content  string   // what an accounts file says that need not be there yet
	Withdraw bool     // bring back what it declares; else make it so
	Only     []string // the accounts that it is about; empty: all
	Check    bool     // only say what would be changed
	Diff     bool     // say what every change changes
}

// A RequestError reports a request that can't be understood. Nothing was looked at.
type RequestError struct {
	Key  string // the argument; empty where it is about all of them
	What string
}

func (e *RequestError) Error() string {
	if e.Key == "" {
		return "the arguments can't be understood: " + e.What
	}
	return fmt.Sprintf("argument %q: %s", e.Key, e.What)
}

// ReadRequest reads the arguments that an engine has written into a file. The error is a
// *[RequestError], or that of the file.
func ReadRequest(path string) (*Request, error) {
	data, err := handle.ReadRegular(path, RequestLimit)
	if errors.Is(err, handle.ErrNotFile) || errors.Is(err, handle.ErrTooLarge) {
		return nil, &RequestError{What: pathtext.Show(path) + " is no file, or too large for one with arguments"}
	}
	if err != nil {
		return nil, err
	}
	return ParseRequest(data)
}

// ParseRequest reads arguments: one JSON object (RFC 8259). The error is a *[RequestError].
func ParseRequest(data []byte) (*Request, error) {
	var all map[string]json.RawMessage
	if err := json.Unmarshal(data, &all); err != nil {
		return nil, &RequestError{What: err.Error()}
	}
	r := &Request{}
	for _, key := range slices.Sorted(maps.Keys(all)) {
		var err error
		switch {
		case key == engineOwn+"check_mode":
			r.Check, err = truth(all[key])
		case key == engineOwn+"diff":
			r.Diff, err = truth(all[key])
		case strings.HasPrefix(key, engineOwn) || string(all[key]) == "null":
		case key == "file":
			err = json.Unmarshal(all[key], &r.File)
		case key == "content":
			err = json.Unmarshal(all[key], &r.Content)
		case key == "state":
			r.Withdraw, err = withdraws(all[key])
		case key == "only":
			r.Only, err = names(all[key])
		default:
			err = fmt.Errorf("it is not known; there are %s", strings.Join(RequestKeys, ", "))
		}
		if err != nil {
			return nil, &RequestError{key, err.Error()}
		}
	}
	switch {
	case (r.File == "") == (r.Content == ""):
		return nil, &RequestError{"file", "either file or content is needed: the path of an accounts file on the " +
			"machine that it is about, or what it says"}
	case r.File == "":
	case !filepath.IsAbs(r.File) || strings.ContainsRune(r.File, 0):
		return nil, &RequestError{"file", "it has to be a path that begins with /"}
	}
	return r, nil
}

// Declared is the accounts file that a request is about; errors are those of [Read].
func (r *Request) Declared() (*File, error) {
	if r.File == "" {
		return Parse("content", []byte(r.Content))
	}
	return Read(r.File)
}

// truth reads a value that is true or false; engines write it as text, too.
func truth(raw json.RawMessage) (out bool, err error) {
	switch strings.ToLower(strings.Trim(string(raw), `"`)) {
	case "true", "yes", "on", "1":
		return true, nil
	case "false", "no", "off", "0", "null", "":
		return false, nil
	}
	return false, errors.New("it is true or false")
}

func withdraws(raw json.RawMessage) (bool, error) {
	var state string
	if err := json.Unmarshal(raw, &state); err != nil || state != "applied" && state != "withdrawn" {
		return false, errors.New("it is applied or withdrawn")
	}
	return state == "withdrawn", nil
}

// names reads a list of accounts, or one text with commas between them.
func names(raw json.RawMessage) ([]string, error) {
	var out []string
	if json.Unmarshal(raw, &out) != nil {
		var text string
		if json.Unmarshal(raw, &text) != nil {
			return nil, errors.New("it is a list of accounts' names")
		}
		out = strings.Split(text, ",")
	}
	for k := range out {
		if out[k] = strings.TrimSpace(out[k]); out[k] == "" {
			return nil, errors.New("an account's name in it is empty")
		}
	}
	return out, nil
}
