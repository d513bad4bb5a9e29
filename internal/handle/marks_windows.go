package handle

import "encoding/binary"

// sysMarks asks whether a directory tells names apart that differ in case alone, as those of Linux
// subsystems do (FILE_CASE_SENSITIVE_INFORMATION). What is no directory, or older, does not.
func sysMarks(fd descriptor) Marks {
	const fileCaseSensitiveInformation, tells = 71, 0x1
	var flags [4]byte
	err := query(fd, fileCaseSensitiveInformation, flags[:])
	return Marks{Handling: err == nil && binary.LittleEndian.Uint32(flags[:])&tells != 0}
}
