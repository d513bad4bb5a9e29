package accounts

import (
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/internal/account"
	"nexlin/internal/strict"
)

const head = "accounts-file: 1\nrules:\n- for: {people: true}\n  redirects:\n  - "

func TestExampleIsAnAccountsFile(t *testing.T) {
	f, err := Parse("example.yaml", []byte(Example))
	require.NoError(t, err)
	require.Len(t, f.Rules, 2)
	require.Equal(t, SmallestFirst, f.Order)
	require.Equal(t, []string{"wren", "test-*"}, f.Rules[0].For.Except)
	require.True(t, f.Rules[1].Redirects[0].Discard)
}

// What is wrong with a file is said with its place.
func TestMistakesHaveTheirPlace(t *testing.T) {
	for _, c := range []struct {
		text, what   string
		line, column int
	}{
		{"accounts-file: 2\nrules:\n- for: {people: true}\n  redirects: [{folder: ~/a, into: B:/b}]", "not 2", 1, 16},
		{"accounts-file: 1\nrules: []", "rules is missing", 2, 8},
		{"accounts-file: 1\nwhat: 1\nrules: []", `unknown field "what"`, 2, 1},
		{"accounts-file: 1\norder: biggest\nrules: []", "order is", 2, 8},
		{"accounts-file: 1\nrules:\n- redirects: [{folder: ~/a, into: B:/b}]", "for says for no account", 3, 12},
		{"accounts-file: 1\nrules:\n- for: {names: [\"a:b\"]}\n  redirects: [{folder: ~/a, into: B:/b}]", "is no name", 3, 17},
		{"accounts-file: 1\nrules:\n- for: {like: [\"a[\"]}\n  redirects: [{folder: ~/a, into: B:/b}]", "is no pattern", 3, 16},
		{"accounts-file: 1\nrules:\n- for: {people: maybe}\n  redirects: [{folder: ~/a, into: B:/b}]", "bool", 3, 17},
		{head + "{into: B:/b}", "of one profile, folder or card", 5, 5},
		{head + "{folder: ~/a, card: c, into: B:/b}", "of one profile, folder or card", 5, 5},
		{head + "{folder: ~/a}", "into is missing", 5, 5},
		{head + "{folder: a, into: B:/b}", "begins with /", 5, 14},
		{head + "{folder: ~/../a, into: B:/b}", "goes up with ..", 5, 14},
		{head + "{folder: ~/a, into: B:/../b}", "goes up with ..", 5, 25},
		{head + "{folder: ~/a, into: \"B:/{who}\"}", "has another", 5, 25},
		{head + "{folder: ~/a, into: \"{account}:/b\"}", "has no variables", 5, 25},
		{head + "{folder: ~/a, into: b}", "begins with /", 5, 25},
		{head + "{folder: ~/a, into: B:/b, as: x/y}", "no path", 5, 35},
		{head + "{folder: ~/a, into: B:/b, as: .nexlin}", "no path", 5, 35},
		{head + "{card: c, into: B:/b, as: x}", "the card says itself", 5, 31},
		{head + "{profile: paintings, into: B:/b}", "profile is", 5, 15},
		{head + "{folder: ~/a, into: B:/b, by: magic}", "by is", 5, 35},
		{head + "{folder: ~/a, into: B:/b, missing: weep}", "missing is", 5, 40},
		{head + "{folder: ~/a, into: B:/b, drive-away: weep}", "drive-away is", 5, 43},
		{head + "{folder: ~/a, into: B:/b, space-short: weep}", "space-short is", 5, 44},
		{head + "{folder: ~/a, into: B:/b, accept: [rot]}", "may be accepted", 5, 40},
		{head + "{folder: ~/a, into: B:/b, wait-quiet: soon}", "wait-quiet is a time", 5, 43},
		{head + "{folder: ~/a, into: B:/b, digest: crc}", "digest is", 5, 39},
		{head + "{folder: ~/a, into: B:/b, inner-links: cut}", "inner-links is", 5, 44},
		{"\tno", "", 1, 1},
	} {
		_, err := Parse("f.yaml", []byte(c.text))
		var m *strict.MistakeError
		require.ErrorAs(t, err, &m, c.text)
		require.Contains(t, m.What, c.what, c.text)
		require.Equal(t, [2]int{c.line, c.column}, [2]int{m.Line, m.Column}, "%s\n%v", c.text, err)
	}
}

func TestWhoARuleIsFor(t *testing.T) {
	people := map[string]bool{"ines": true, "tomas": true, "wren": true}
	m := &maker{groups: map[string]map[string]bool{"survey": {"wren": true, "backup": true}}}
	for _, c := range []struct {
		who  Who
		want string
	}{
		{Who{People: true}, "ines tomas wren"},
		{Who{People: true, Except: []string{"w*"}}, "ines tomas"},
		{Who{Names: []string{"backup", "nobody-here"}}, "backup"},
		{Who{Groups: []string{"survey"}}, "backup wren"},
		{Who{Like: []string{"?nes", "*as"}}, "ines tomas"},
		{Who{Groups: []string{"survey"}, Names: []string{"ines"}, Except: []string{"backup"}}, "ines wren"},
		{Who{Groups: []string{"none"}}, ""},
	} {
		var got []string
		for _, name := range []string{"backup", "ines", "tomas", "wren"} {
			if m.matches(&c.who, &account.Entry{Name: name}, people) {
				got = append(got, name)
			}
		}
		require.Equal(t, c.want, strings.Join(got, " "), "%+v", c.who)
	}
}

func TestUnitsQuote(t *testing.T) {
	u := Units("/opt/a b/nexlin", "/etc/100%/$x\".yaml", "")
	require.Contains(t, u[0].Text, `ExecStart="/opt/a b/nexlin" accounts apply --yes --quiet "/etc/100%%/$$x\".yaml"`)
	require.Contains(t, u[0].Text, "ConditionPathExists=/etc/100%%/")
	require.NotContains(t, u[0].Text, "ExecStopPost")
	u = Units("/usr/bin/nexlin", "/etc/a.yaml", "/var/a b.prom")
	require.Contains(t, u[0].Text, `ExecStopPost=-"/usr/bin/nexlin" check --quiet --metrics-file "/var/a b.prom"`)
	require.Contains(t, LoginLine("/usr/bin/nexlin", "/etc/a]b.yaml"), `[/etc/a\]b.yaml]`)
}

// Whatever is in a file, reading it ends, with a mistake or with what can be carried out.
func FuzzParse(f *testing.F) {
	f.Add([]byte(Example))
	f.Add([]byte(head + "{profile: pictures, into: B:/{account}}"))
	f.Add([]byte("accounts-file: 1\nrules: &a [*a]"))
	f.Fuzz(func(t *testing.T, data []byte) {
		file, err := Parse("f.yaml", data)
		if err != nil {
			var m *strict.MistakeError
			if !errors.As(err, &m) {
				t.Fatalf("%T: %v", err, err)
			}
			return
		}
		for _, r := range file.Rules {
			for _, w := range r.Redirects {
				if w.Into == "" || strings.Contains(w.Into, "/../") {
					t.Fatalf("into %q", w.Into)
				}
			}
		}
	})
}
