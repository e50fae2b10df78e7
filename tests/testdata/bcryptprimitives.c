/* What Go's runtime asks of bcryptprimitives.dll, for versions of Wine that lack it. */
#include <windows.h>

/* RtlGenRandom, under the name by which advapi32 exports it. */
BOOLEAN NTAPI SystemFunction036(PVOID buffer, ULONG length);

__declspec(dllexport) BOOL WINAPI ProcessPrng(PBYTE data, SIZE_T length)
{
    while (length > 0) {
        ULONG part = length > 0x10000000 ? 0x10000000 : (ULONG)length;
        if (!SystemFunction036(data, part))
            return FALSE;
        data += part;
        length -= part;
    }
    return TRUE;
}
