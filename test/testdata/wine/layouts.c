/* The numbers that internal/handle and internal/inuse use on Windows, held against published headers
   when this is compiled. Nothing is run. */
#ifdef MANAGER
#include <windows.h>
#include <restartmanager.h>
#include <winioctl.h>
#include <cfgmgr32.h>
#define AT(type, field, n) _Static_assert(offsetof(type, field) == (n), #type "." #field)
_Static_assert(sizeof(RM_PROCESS_INFO) == 668, "RM_PROCESS_INFO");
AT(RM_PROCESS_INFO, strAppName, 12);
AT(RM_PROCESS_INFO, strServiceShortName, 12 + 512);
AT(STORAGE_DEVICE_DESCRIPTOR, BusType, 28);
AT(DEVICE_SEEK_PENALTY_DESCRIPTOR, IncursSeekPenalty, 8);
_Static_assert(sizeof(STORAGE_PROPERTY_QUERY) == 12 && IOCTL_STORAGE_QUERY_PROPERTY == 0x2d1400, "storage_windows.go");
_Static_assert(StorageDeviceProperty == 0 && StorageDeviceSeekPenaltyProperty == 7, "storage_windows.go");
_Static_assert(BusType1394 == 4 && BusTypeUsb == 7 && BusTypeSd == 12 && BusTypeMmc == 13, "storage_windows.go");
_Static_assert(sizeof(CM_NOTIFY_FILTER) == 416, "watch_windows.go");
AT(CM_NOTIFY_FILTER, u, 16);
_Static_assert(FILE_PERSISTENT_ACLS == 0x8, "xattr_windows.go, keepsRights");
_Static_assert(FILE_NAMED_STREAMS == 0x40000, "xattr_windows.go, hasStreams");
_Static_assert(FILE_ATTRIBUTE_SPARSE_FILE == 0x200 && FILE_ATTRIBUTE_NOT_CONTENT_INDEXED == 0x2000, "stat_windows.go");
_Static_assert((DWORD)IO_REPARSE_TAG_MOUNT_POINT == 0xA0000003 && (DWORD)IO_REPARSE_TAG_SYMLINK == 0xA000000C, "junction");
_Static_assert((DWORD)IO_REPARSE_TAG_CLOUD == 0x9000001A && (DWORD)IO_REPARSE_TAG_CLOUD_MASK == 0xF000, "stat_windows.go");
_Static_assert((DWORD)IO_REPARSE_TAG_WOF == 0x80000017 && (DWORD)IO_REPARSE_TAG_DEDUP == 0x80000013, "stat_windows.go");
#else
#include <ntifs.h>
#define AT(type, field, n) _Static_assert(offsetof(type, field) == (n), #type "." #field)
#define IS(name, n) _Static_assert((unsigned long long)(name) == (n), #name)
_Static_assert(sizeof(FILE_BASIC_INFORMATION) == 40, "setBasic");
AT(FILE_BASIC_INFORMATION, CreationTime, 0);
AT(FILE_BASIC_INFORMATION, LastAccessTime, 8);
AT(FILE_BASIC_INFORMATION, LastWriteTime, 16);
AT(FILE_BASIC_INFORMATION, ChangeTime, 24);
AT(FILE_BASIC_INFORMATION, FileAttributes, 32);
AT(FILE_ALL_INFORMATION, StandardInformation.AllocationSize, 40);
AT(FILE_ALL_INFORMATION, StandardInformation.EndOfFile, 48);
AT(FILE_ALL_INFORMATION, StandardInformation.NumberOfLinks, 56);
AT(FILE_ALL_INFORMATION, InternalInformation, 64);
AT(FILE_ALL_INFORMATION, EaInformation, 72);
AT(FILE_RENAME_INFORMATION, RootDirectory, 8);
AT(FILE_RENAME_INFORMATION, FileNameLength, 16);
AT(FILE_RENAME_INFORMATION, FileName, 20);
AT(FILE_LINK_INFORMATION, RootDirectory, 8);
AT(FILE_LINK_INFORMATION, FileName, 20);
AT(FILE_STREAM_INFORMATION, StreamNameLength, 4);
AT(FILE_STREAM_INFORMATION, StreamName, 24);
AT(FILE_ID_BOTH_DIR_INFORMATION, FileNameLength, 60);
AT(FILE_ID_BOTH_DIR_INFORMATION, FileName, 104);
AT(FILE_PROCESS_IDS_USING_FILE_INFORMATION, ProcessIdList, 8);
AT(FILE_ATTRIBUTE_TAG_INFORMATION, ReparseTag, 4);
AT(FILE_FULL_EA_INFORMATION, EaNameLength, 5);
AT(FILE_FULL_EA_INFORMATION, EaValueLength, 6);
AT(FILE_FULL_EA_INFORMATION, EaName, 8);
IS(FileEaInformation, 7);
IS((unsigned)STATUS_NO_EAS_ON_FILE, 0xC0000052);
IS((unsigned)STATUS_EAS_NOT_SUPPORTED, 0xC000004F);
IS(FileRenameInformation, 10);
IS(FileLinkInformation, 11);
IS(FileDispositionInformation, 13);
IS(FileAllInformation, 18);
IS(FileStreamInformation, 22);
IS(FileAttributeTagInformation, 35);
IS(FileProcessIdsUsingFileInformation, 47);
IS(FileDispositionInformationEx, 64);
IS(FileRenameInformationEx, 65);
IS(FileCaseSensitiveInformation, 71);
IS(LABEL_SECURITY_INFORMATION, 0x10);
IS(FILE_NO_INTERMEDIATE_BUFFERING, 0x8);
#endif
