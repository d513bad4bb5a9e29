package inuse

import (
	"os"
	"testing"

	"nexlin/test/lab"
)

func TestMain(m *testing.M) {
	lab.OwnMounts()
	os.Exit(m.Run())
}
