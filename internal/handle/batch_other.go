//go:build !linux

package handle

// batchSystem reads nothing: every file is read by itself.
type batchSystem struct{}

func (batchSystem) read([]queued) {}

func sysOnDisk(*Dir) bool { return false }
