//go:build linux

package places

import (
	"errors"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"
)

// What many ask for at once is found out once; what failed is asked for again; and without a memory
// each asks for itself.
func TestMemo(t *testing.T) {
	m := NewMemo[string, int]()
	var asked atomic.Int64
	var all sync.WaitGroup
	for range 20 {
		all.Go(func() {
			n, err := m.Of("depth", func() (int, error) { return int(asked.Add(1)), nil })
			require.NoError(t, err)
			require.Equal(t, 1, n)
		})
	}
	all.Wait()
	failed := errors.New("it failed")
	_, err := m.Of("tide", func() (int, error) { return 7, failed })
	require.ErrorIs(t, err, failed)
	n, err := m.Of("tide", func() (int, error) { return 8, nil })
	require.NoError(t, err)
	require.Equal(t, 8, n)
	m = nil
	for i := range 3 {
		n, err = m.Of("depth", func() (int, error) { return i, nil })
		require.NoError(t, err)
		require.Equal(t, i, n)
	}
}
