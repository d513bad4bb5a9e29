# Tests near the system, and the self-test onto a second drive: a disk in a file, attached
# for it, which takes an administrator.
$ErrorActionPreference = 'Stop'
go build -o bin/nexlin.exe ./cmd/nexlin
go test ./internal/handle ./internal/drive ./internal/link ./internal/setting ./internal/inuse ./internal/transfer
if ($LASTEXITCODE -ne 0) { exit $LASTEXITCODE }
foreach ($fs in 'NTFS', 'exFAT') {
	$file = Join-Path $env:TEMP "second-$fs.vhdx"
	"create vdisk file=`"$file`" maximum=600 type=expandable", "select vdisk file=`"$file`"", 'attach vdisk',
	'create partition primary', "format fs=$fs label=NX quick", 'assign letter=X' | diskpart | Out-Null
	& bin/nexlin.exe selftest --into 'X:\' --report "selftest-$fs.json"
	$status = $LASTEXITCODE
	"select vdisk file=`"$file`"", 'detach vdisk' | diskpart | Out-Null
	Remove-Item $file
	if ($status -ne 0) { exit $status }
}
