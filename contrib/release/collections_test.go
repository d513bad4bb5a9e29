package main

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/stretchr/testify/require"
)

// Each manifest names the archives that were made, by their digests, and reads as what it is.
func TestCollections(t *testing.T) {
	dir, digests := t.TempDir(), map[string]string{}
	for i, system := range []string{"darwin", "windows"} {
		for j, arch := range []string{"amd64", "arm64"} {
			c := collection{Version: "1.2.3"}
			digests[c.archive(system, arch)] = strings.Repeat(string(rune('a'+2*i+j)), 64)
		}
	}
	made := time.Unix(1_800_000_000, 0).UTC()
	const base = "https://example.invalid/1.2.3"
	require.NoError(t, writeCollections(dir, "1.2.3", "LicenseRef-Nexlin", base+"/", made, digests))
	for _, to := range collected {
		text, err := os.ReadFile(filepath.Join(dir, to))
		require.NoError(t, err)
		require.Contains(t, string(text), "1.2.3")
		require.NotContains(t, string(text), "{{")
		var doc map[string]any
		switch filepath.Ext(to) {
		case ".json":
			require.NoError(t, json.Unmarshal(text, &doc))
			x64 := doc["architecture"].(map[string]any)["64bit"].(map[string]any)
			require.Equal(t, base+"/nexlin-1.2.3-windows-amd64.zip", x64["url"])
			require.Equal(t, strings.Repeat("c", 64), x64["hash"])
		case ".yaml":
			require.NoError(t, yaml.Unmarshal(text, &doc), to)
			require.Equal(t, "Nexlin.Nexlin", doc["PackageIdentifier"])
		default:
			for _, sum := range []string{"a", "b"} {
				require.Contains(t, string(text), strings.Repeat(sum, 64), to)
			}
		}
	}
	delete(digests, "nexlin-1.2.3-windows-arm64.zip")
	require.ErrorContains(t, writeCollections(dir, "1.2.3", "x", base, made, digests), "was not made")
	for _, bad := range []string{"http://example.invalid", "https://", `https://x/"`, "file:///x", "https://x/#{y}"} {
		require.ErrorContains(t, writeCollections(dir, "1.2.3", "x", bad, made, digests), "no https address", bad)
	}
}

// Checksums that were signed verify, and others do not.
func TestSigned(t *testing.T) {
	if _, err := exec.LookPath("ssh-keygen"); err != nil {
		t.Skip("ssh-keygen is not installed")
	}
	r := &release{dir: t.TempDir()}
	r.key = filepath.Join(t.TempDir(), "key")
	require.NoError(t, r.command(t.Context(), nil, "ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", r.key))
	require.NoError(t, os.WriteFile(filepath.Join(r.dir, "a"), []byte("a"), 0o600))
	require.NoError(t, writeSums(r.dir, []string{"a"}))
	require.NoError(t, r.sign(t.Context()))
	require.NoError(t, os.WriteFile(filepath.Join(r.dir, sums), []byte("0  a\n"), 0o600))
	require.ErrorContains(t, verifySigned(t.Context(), r.dir), "does not verify")
}
