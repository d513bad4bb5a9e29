package drive

import (
	"os"
	"testing"

	"nexlin/test/lab"
)

func TestMain(m *testing.M) {
	lab.OwnNamespaces()
	os.Exit(m.Run())
}
