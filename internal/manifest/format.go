package manifest

// A manifest is text, one entry a line, in the one order:
//
//	#mtree
//	#nexlin manifest 1
//	. type=dir mode=0755 uid=1000 gid=1000 time=1790000000.000000000
//	./dawn.wav type=file size=2048 mode=0644 uid=1000 gid=1000 time=1790000001.120000000 sha256digest=…
//	#nexlin xattr user.species 726f62696e
//	./latest type=link link=dawn.wav mode=0777 uid=1000 gid=1000 time=1790000002.000000000
//	#nexlin end
//
// The first line is mtree(5)'s own signature. Types are dir, file, link,
// fifo, socket, char and block, the last two with device=0xHEX as the system
// that wrote them encodes it. Paths and link texts are vis(3)-encoded with
// octal escapes; sizes are bytes; times are seconds and nine digits of
// nanoseconds. The last line tells a whole manifest from a torn one.
//
// Comment lines belong to the entry before them; stock tools pass over them.
// They come in this order, the last one as often as needed:
//
//	#nexlin same ./PATH      a further name of the file that PATH is the first name of
//	#nexlin was TEXT         what a link said before it was rewritten to be moved
//	#nexlin blake3 HEX       digest of the content, in place of sha256digest
//	#nexlin xattr NAME HEX   an extended attribute
//
// An unknown version, keyword or comment of ours is an error: a reader that
// skipped it would promise more than it checked.
const (
	header  = "#mtree\n#nexlin manifest 1\n"
	trailer = "#nexlin end\n"

	// maxLine bounds one line: a path of 4096 bytes, encoded four for one,
	// and an attribute of 64 KiB in hex fit in; what is longer is hostile.
	maxLine = 256 << 10
	// maxXattrs bounds the attributes of one entry; ext4 and xfs hold far fewer.
	maxXattrs = 4096
	// maxXattrBytes bounds their values together: Linux takes 64 KiB for one.
	maxXattrBytes = 4 << 20
)
