//go:build !faults

package redirect

// fault does nothing in a released program.
func fault(string) error { return nil }

// injected tells a fault of the tests, of which there are none here.
func injected(error) bool { return false }
