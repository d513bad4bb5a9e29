package places

import "sync"

// A Memo remembers what was found out for each key, so that many redirects can be looked at in
// one moment without asking again for each. A nil one remembers nothing. It may be used from
// several goroutines: what one asks for, the others wait for.
type Memo[K comparable, V any] struct {
	mu    sync.Mutex
	known map[K]V
}

// NewMemo makes one that knows nothing yet.
func NewMemo[K comparable, V any]() *Memo[K, V] { return &Memo[K, V]{known: map[K]V{}} }

// Of is what is known of k, or what find says. An error is not remembered. find must not ask the
// same memo.
func (m *Memo[K, V]) Of(k K, find func() (V, error)) (V, error) {
	if m == nil {
		return find()
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if v, ok := m.known[k]; ok {
		return v, nil
	}
	v, err := find()
	if err == nil {
		m.known[k] = v
	}
	return v, err
}
