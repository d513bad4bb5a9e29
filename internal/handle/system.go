package handle

import "runtime"

// Windows says that this system is Windows, or works like it: it follows
// junctions and knows drive letters.
const Windows = runtime.GOOS == "windows"

// Exchanges says that this system has a call that exchanges two entries in one
// act; whether a file system does it is found out by trying.
const Exchanges = !Windows
