package accounts

import (
	"errors"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestRequests(t *testing.T) {
	for _, c := range []struct {
		text, key string // the key that is at fault
		want      Request
	}{
		{text: `{"file": "/a"}`, want: Request{File: "/a"}},
		{text: `{"file": "/a", "state": "applied", "only": [], "content": null}`, want: Request{File: "/a", Only: []string{}}},
		{text: `{"content": "x: 1", "state": "withdrawn", "only": " ines, tomas", "_ansible_check_mode": true,
			"_ansible_diff": "yes", "_ansible_tmpdir": {}}`,
			want: Request{Content: "x: 1", Withdraw: true, Only: []string{"ines", "tomas"}, Check: true, Diff: true}},
		{text: `{}`, key: "file"},
		{text: `{"file": "/a", "content": "b"}`, key: "file"},
		{text: `{"file": "a"}`, key: "file"},
		{text: `{"file": ["/a"]}`, key: "file"},
		{text: `{"file": "/a\u0000"}`, key: "file"},
		{text: `{"file": "/a", "state": "present"}`, key: "state"},
		{text: `{"file": "/a", "only": 1}`, key: "only"},
		{text: `{"file": "/a", "only": ["ines", ""]}`, key: "only"},
		{text: `{"file": "/a", "_ansible_check_mode": "perhaps"}`, key: "_ansible_check_mode"},
		{text: `{"file": "/a", "flie": "/b"}`, key: "flie"},
		{text: `[]`},
		{text: `{"file": "/a"} {}`},
		{text: ``},
	} {
		got, err := ParseRequest([]byte(c.text))
		if c.want.File+c.want.Content != "" {
			require.NoError(t, err, c.text)
			require.Equal(t, c.want, *got, c.text)
			continue
		}
		var e *RequestError
		require.ErrorAs(t, err, &e, c.text)
		require.Equal(t, c.key, e.Key, c.text)
	}
}

// Whatever an engine hands over, reading it ends, and gives a request that is about one file.
func FuzzRequest(f *testing.F) {
	f.Add([]byte(`{"file": "/a", "only": "b,c", "state": "withdrawn", "_ansible_diff": true}`))
	f.Add([]byte(`{"content": "", "file": null}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		r, err := ParseRequest(data)
		if err != nil {
			var e *RequestError
			if !errors.As(err, &e) {
				t.Fatalf("%T: %v", err, err)
			}
			return
		}
		if (r.File == "") == (r.Content == "") || r.File != "" && !filepath.IsAbs(r.File) {
			t.Fatalf("%+v", r)
		}
	})
}
