// Package compare is the one merge of two listings that come in the one order of paths
// ([handle.Compare]): what one of them has alone, and what both have. It knows nothing of
// what is listed.
package compare

import "nexlin/internal/handle"

// A Listing gives things in the one order. Peek gives the next one, nil at the end; it is
// valid until Next.
type Listing[T any] interface {
	Peek() *T
	Next()
}

// To goes on in a listing to what has that path, and takes it; nil if nothing has. What
// comes before it, the other side has not: alone is told each, and may be nil. Paths have
// to come in the one order. What is taken or told is put into keep, and is valid as long as
// that is not used again. An error is that of alone.
func To[T any](l Listing[T], keep *T, pathOf func(*T) string, path string, alone func(*T) error) (*T, error) {
	for at := l.Peek(); at != nil; at = l.Peek() {
		order := handle.Compare(pathOf(at), path)
		if order > 0 {
			return nil, nil
		}
		*keep = *at
		l.Next()
		if order == 0 {
			return keep, nil
		}
		if alone == nil {
			continue
		}
		if err := alone(keep); err != nil {
			return nil, err
		}
	}
	return nil, nil
}

// Rest tells all that is left in a listing once the other side has come to its end, each put
// into keep.
func Rest[T any](l Listing[T], keep *T, alone func(*T) error) error {
	for at := l.Peek(); at != nil; at = l.Peek() {
		*keep = *at
		l.Next()
		if err := alone(keep); err != nil {
			return err
		}
	}
	return nil
}
