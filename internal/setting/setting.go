// Package setting knows where programs are told where a folder lies: the
// location settings that the operating system keeps for profile folders, and
// the settings files of applications.
//
// A settings file is changed by a precise address, in its bytes: formatting,
// comments and everything else stay. The file, once changed, is read again
// by the format's own reader before it is written; if anything but the
// addressed value differs, it is not written at all.
//
// The package does not decide what is changed when, and keeps nothing for an
// undo: that is the run's.
package setting
