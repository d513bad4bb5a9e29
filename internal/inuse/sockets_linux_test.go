package inuse

import (
	"bufio"
	"net"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nexlin/test/lab"
)

func TestListening(t *testing.T) {
	const table = "Num       RefCount Protocol Flags    Type St Inode Path\n" +
		"00000000: 00000003 00000000 00000000 0001 03  1080\n" +
		"00000000: 00000002 00000000 00010000 0001 01  1081 /h/docs/a b  c\n" +
		"00000000: 00000002 00000000 00010000 0001 01 1082 /h/docs2/x\n" +
		"00000000: 00000002 00000000 00010000 0001 01  1083 @/h/docs/abstract\n" +
		"torn\n" +
		"00000000: 00000002 00000000 00010000 0001 01  1084 /h/docs/a b  c\n"
	require.Equal(t, []string{"/h/docs/a b  c"}, listening(bufio.NewScanner(strings.NewReader(table)), "/h/docs"))

	dir := t.TempDir()
	require.Empty(t, Listening(dir))
	if len(dir) > 90 {
		lab.Skip(t, "the temporary folder's name is too long for a socket")
	}
	l, err := net.Listen("unix", filepath.Join(dir, "s"))
	require.NoError(t, err)
	defer l.Close()
	require.Equal(t, []string{filepath.Join(dir, "s")}, Listening(dir))
}
