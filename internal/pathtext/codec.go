package pathtext

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"reflect"
	"regexp"
	"strings"
	"unicode/utf8"
)

// JSON has no way to write bytes that are no UTF-8, and [encoding/json] replaces
// them. Marshal writes a string that has some as an object {"base64": "…"} instead,
// and Unmarshal reads it back, wherever in a value it stands: paths and texts of
// links keep every byte. In between such a string carries a mark that begins with
// zero, which no path has.
const mark = "\x00base64:"

var (
	marked  = regexp.MustCompile(`"\\u0000base64:([^"]*)"`)
	objects = regexp.MustCompile(`\{\s*"base64":\s*"([A-Za-z0-9+/=]*)"\s*\}`)
)

// Marshal is [json.Marshal] with that, and without escapes for HTML.
func Marshal(v any) ([]byte, error) { return MarshalIndent(v, "") }

// MarshalIndent is [Marshal] on several lines if indent is not empty.
func MarshalIndent(v any, indent string) ([]byte, error) {
	changed := false
	if v != nil {
		var with reflect.Value
		if with, changed = marking(reflect.ValueOf(v)); changed {
			v = with.Interface()
		}
	}
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", indent)
	if err := enc.Encode(v); err != nil {
		return nil, err
	}
	out := bytes.TrimSuffix(b.Bytes(), []byte("\n"))
	if changed {
		out = asObjects(out)
	}
	return out, nil
}

// asObjects writes marked strings as the objects they stand for.
func asObjects(b []byte) []byte { return marked.ReplaceAll(b, []byte(`{"base64":"$1"}`)) }

// Unmarshal reads what [Marshal] has written, as [json.Unmarshal] does.
func Unmarshal(b []byte, v any) error { return unmarshal(b, v, false) }

// UnmarshalStrict is [Unmarshal] of a document that must have no fields that v has
// not.
func UnmarshalStrict(b []byte, v any) error { return unmarshal(b, v, true) }

func unmarshal(b []byte, v any, strict bool) error {
	marks := false
	if bytes.Contains(b, []byte(`"base64"`)) { // seldom, and the expression is slow
		b = objects.ReplaceAllFunc(b, func(object []byte) []byte {
			text := objects.FindSubmatch(object)[1]
			if _, err := base64.StdEncoding.DecodeString(string(text)); err != nil {
				return object // which is no string
			}
			marks = true
			return []byte(`"\u0000base64:` + string(text) + `"`)
		})
	}
	read := json.Unmarshal
	if strict {
		read = func(b []byte, v any) error {
			dec := json.NewDecoder(bytes.NewReader(b))
			dec.DisallowUnknownFields()
			return dec.Decode(v)
		}
	}
	if err := read(b, v); err != nil {
		return err
	}
	if marks {
		unmark(reflect.ValueOf(v))
	}
	return nil
}

// marking gives v with its strings marked, as far as they need it; false if none
// does. What marshals itself is left as it is.
func marking(v reflect.Value) (reflect.Value, bool) {
	if v.CanInterface() {
		if _, itself := v.Interface().(json.Marshaler); itself {
			return v, false
		}
	}
	switch v.Kind() {
	case reflect.String:
		if s := v.String(); !utf8.ValidString(s) || strings.IndexByte(s, 0) >= 0 {
			out := reflect.New(v.Type()).Elem()
			out.SetString(mark + base64.StdEncoding.EncodeToString([]byte(s)))
			return out, true
		}
	case reflect.Pointer, reflect.Interface:
		if v.IsNil() {
			return v, false
		}
		in, changed := marking(v.Elem())
		if !changed {
			return v, false
		}
		out := reflect.New(v.Type()).Elem()
		if v.Kind() == reflect.Interface {
			out.Set(in)
		} else {
			out.Set(reflect.New(v.Type().Elem()))
			out.Elem().Set(in)
		}
		return out, true
	case reflect.Struct:
		return markingEach(v, v.NumField(), func(of reflect.Value, i int) (reflect.Value, bool) {
			f := v.Type().Field(i)
			return of.Field(i), f.IsExported() && f.Tag.Get("json") != "-"
		})
	case reflect.Slice, reflect.Array:
		if k := v.Type().Elem().Kind(); k <= reflect.Complex128 {
			return v, false // numbers, and bytes
		}
		return markingEach(v, v.Len(), func(of reflect.Value, i int) (reflect.Value, bool) { return of.Index(i), true })
	case reflect.Map:
		return markingMap(v)
	}
	return v, false
}

// markingEach is [marking] of n parts of v; at gives one, and whether it counts.
func markingEach(v reflect.Value, n int, at func(of reflect.Value, i int) (reflect.Value, bool)) (reflect.Value, bool) {
	var out reflect.Value
	for i := range n {
		part, counts := at(v, i)
		if !counts {
			continue
		}
		in, changed := marking(part)
		if !changed {
			continue
		}
		if !out.IsValid() {
			out = reflect.New(v.Type()).Elem()
			if v.Kind() == reflect.Slice {
				out.Set(reflect.MakeSlice(v.Type(), n, n))
				reflect.Copy(out, v)
			} else {
				out.Set(v)
			}
		}
		into, _ := at(out, i)
		into.Set(in)
	}
	if !out.IsValid() {
		return v, false
	}
	return out, true
}

func markingMap(v reflect.Value) (reflect.Value, bool) {
	out, changed := v, false
	for it := v.MapRange(); it.Next(); {
		in, is := marking(it.Value())
		if !is {
			continue
		}
		if !changed {
			out, changed = reflect.MakeMapWithSize(v.Type(), v.Len()), true
			for all := v.MapRange(); all.Next(); {
				out.SetMapIndex(all.Key(), all.Value())
			}
		}
		out.SetMapIndex(it.Key(), in)
	}
	return out, changed
}

// unmark turns marked strings below v back, in place.
func unmark(v reflect.Value) {
	if raw, is := v.Interface().(json.RawMessage); is && v.CanSet() {
		v.SetBytes(asObjects(raw)) // it is read later
		return
	}
	switch v.Kind() {
	case reflect.String:
		if s, is := strings.CutPrefix(v.String(), mark); is && v.CanSet() {
			if b, err := base64.StdEncoding.DecodeString(s); err == nil {
				v.SetString(string(b))
			}
		}
	case reflect.Pointer:
		if !v.IsNil() {
			unmark(v.Elem())
		}
	case reflect.Interface:
		if !v.IsNil() && v.CanSet() {
			v.Set(unmarked(v.Elem()))
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() {
				unmark(v.Field(i))
			}
		}
	case reflect.Slice, reflect.Array:
		if v.Type().Elem().Kind() <= reflect.Complex128 {
			return
		}
		for i := range v.Len() {
			unmark(v.Index(i))
		}
	case reflect.Map:
		for it := v.MapRange(); it.Next(); {
			v.SetMapIndex(it.Key(), unmarked(it.Value()))
		}
	}
}

// unmarked is a copy of v with [unmark] done.
func unmarked(v reflect.Value) reflect.Value {
	out := reflect.New(v.Type()).Elem()
	out.Set(v)
	unmark(out)
	return out
}
