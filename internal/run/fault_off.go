//go:build !faults

package run

// fault does nothing in a released program.
func fault(string) error { return nil }

// Injected tells a fault of the tests, of which there are none here.
func Injected(error) bool { return false }
