package transfer

import "github.com/klauspost/cpuid/v2"

// Auto stands for the digest that this processor takes fastest: see [Best].
const Auto Digest = "auto"

// Best is SHA-256 where the processor has instructions for it, and else BLAKE3, which is then
// several times faster. Either finds what a drive has done to a file, and what a person has;
// either is out of the reach of whoever wants another file to pass for one.
func Best() Digest {
	if cpuid.CPU.Supports(cpuid.SHA) || cpuid.CPU.Supports(cpuid.SHA2) {
		return SHA256
	}
	return BLAKE3
}

// Or is the digest, or the best where it is left open.
func (d Digest) Or() Digest {
	if d == "" || d == Auto {
		return Best()
	}
	return d
}
