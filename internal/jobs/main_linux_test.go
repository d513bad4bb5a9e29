//go:build faults && linux

package jobs

import (
	"os"
	"testing"

	"nexlin/test/lab"
)

// Thousands of runs look through the processes of the machine for who uses a folder.
func TestMain(m *testing.M) {
	lab.OwnNamespaces()
	os.Exit(m.Run())
}
