/* The one function that the Go runtime wants of a library which Debian's wine
   does not have. For tests only. */
#include <windows.h>

BOOLEAN NTAPI SystemFunction036(PVOID, ULONG); /* RtlGenRandom */

__declspec(dllexport) BOOL WINAPI ProcessPrng(PBYTE at, SIZE_T left)
{
    while (left > 0) {
        ULONG n = left > 65536 ? 65536 : (ULONG)left;
        if (!SystemFunction036(at, n))
            return FALSE;
        at += n;
        left -= n;
    }
    return TRUE;
}
