# Installs Nexlin for this account, from the directory that its zip was unpacked in: the program,
# its place in PATH, and what PowerShell completes by. Nothing of it needs an administrator.
# -Uninstall takes all of that away again; what Nexlin has moved and its records stay.
param([switch]$Uninstall)
$ErrorActionPreference = 'Stop'
$to = Join-Path $env:LOCALAPPDATA 'Programs\nexlin'
$line = ". `"$to\nexlin.ps1`""
$profileFile = $PROFILE.CurrentUserAllHosts
$path = [Environment]::GetEnvironmentVariable('Path', 'User')
$places = @($path -split ';' | Where-Object { $_ -and $_ -ne $to })
$lines = @(if (Test-Path $profileFile) { Get-Content $profileFile | Where-Object { $_ -ne $line } })
if ($Uninstall) {
	[Environment]::SetEnvironmentVariable('Path', ($places -join ';'), 'User')
	if (Test-Path $profileFile) { Set-Content $profileFile $lines }
	if (Test-Path $to) { Remove-Item -Recurse $to }
	'nexlin is uninstalled; what it has moved stays where it is, and so do its records'
	return
}
New-Item -ItemType Directory -Force $to, (Split-Path $profileFile) | Out-Null
Copy-Item (Join-Path $PSScriptRoot 'nexlin.exe'), (Join-Path $PSScriptRoot 'completions\nexlin.ps1') $to -Force
[Environment]::SetEnvironmentVariable('Path', (($places + $to) -join ';'), 'User')
Set-Content $profileFile ($lines + $line)
'nexlin is installed; a new terminal finds it'
