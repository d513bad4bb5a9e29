// Package execute carries plans out, and takes them back: it opens and locks, copies and
// verifies, has link and folder change places, tries that programs get there, and writes
// down what came of it. It knows jobs by an interface, and no kind of run by name.
//
// What holds at every moment, by number in comments and tests:
//
//	I1  The link path resolves to a whole folder, the old or the new one.
//	I2  There is never a moment at which the only copy of a byte is
//	    unflushed or unverified.
//	I3  A run stopped anywhere can be finished by resume or taken back by
//	    undo; both can be repeated.
//	I4  Only what Nexlin made itself is deleted, and held entries on
//	    discard-original. A part stops being Nexlin's own when it gets its
//	    final name.
//	I5  Nothing is written below a path where a drive is expected unless
//	    that drive is there.
//	I6  Below a folder everything goes through handles that follow no link
//	    and cross no mount.
//	I7  Two Nexlins on one folder: the second one refuses.
//
// Recovery decides from what it finds on the disks together with the
// journal, never from the journal alone. The package asks nobody and prints
// nothing: what a person must decide comes back as findings.
package execute
