//! The question about the disks: a script that setup writes line by line, and the command that runs it.

use crate::{
    command_line::batch,
    model::{Disk, Size},
};

/// Conditions for laying out a disk.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct Guard {
    pub disk: u32,
    pub only: bool,
    /// MiB.
    pub at_least: u64,
    /// MiB; 0 is no limit.
    pub at_most: u64,
}

/// Counts fixed disks and measures one. Only its own two exit codes say anything: a script host that cannot ask the
/// system, or has no script, ends with others. Sizes are MiB.
const GUARD_SCRIPT: [&str; 11] = [
    "set a=wscript.arguments",
    "if a.count<>4 then wscript.quit 40",
    "set w=getobject(\"winmgmts:root\\cimv2\")",
    "n=0",
    "s=-1",
    "for each d in w.execquery(\"select * from win32_diskdrive\")",
    "if d.interfacetype<>\"USB\" then n=n+1",
    "if d.index=clng(a(0)) then s=cdbl(d.size)/1048576",
    "next",
    "if s<cdbl(a(2)) or (a(3)<>\"0\" and s>cdbl(a(3))) or (a(1)=\"1\" and n<>1) then wscript.quit 41",
    "wscript.quit 42",
];
/// The same for PowerShell, which setup environments have that are made without the script host. A disk that is not found
/// has the size -1, which fits nothing.
const GUARD_POWERSHELL: [&str; 8] = [
    "param($disk,$only,$least,$most)",
    "$n=0",
    "$s=-1",
    "foreach($d in Get-WmiObject Win32_DiskDrive){",
    "if($d.InterfaceType -ne 'USB'){$n++}",
    "if($d.Index -eq [int]$disk){$s=$d.Size/1MB}}",
    "if($s -lt [double]$least -or ([double]$most -ne 0 -and $s -gt [double]$most) -or ($only -eq '1' -and $n -ne 1)){exit 41}",
    "exit 42",
];
/// Asks one of both, and goes on after exit code 42 alone. Anything else never comes back to setup.
const GUARD_BATCH: [&str; 15] = [
    "@echo off",
    "cscript.exe //nologo X:\\neatstack-disks.vbs %1 %2 %3 %4",
    "if errorlevel 41 if not errorlevel 43 goto known",
    "powershell.exe -NoProfile -ExecutionPolicy Bypass -File X:\\neatstack-disks.ps1 %1 %2 %3 %4",
    ":known",
    "if errorlevel 42 if not errorlevel 43 exit 0",
    "if errorlevel 41 if not errorlevel 42 echo The disks of this machine are not as the answer file expects.",
    "if not errorlevel 41 echo The disks of this machine could not be checked.",
    "if errorlevel 43 echo The disks of this machine could not be checked.",
    "echo Nothing was written.",
    ":stop",
    "pause",
    "wpeutil shutdown",
    "pause",
    "goto stop",
];
const GUARD_SCRIPT_FILE: &str = "X:\\neatstack-disks.vbs";
const GUARD_POWERSHELL_FILE: &str = "X:\\neatstack-disks.ps1";
const GUARD_BATCH_FILE: &str = "X:\\neatstack-disks.cmd";
/// The commands that write the three, in order.
pub(super) fn lines() -> impl Iterator<Item = String> {
    let written = |file: &'static str, lines: &'static [&'static str]| {
        lines.iter().enumerate().map(move |(number, line)| {
            let sign = if number == 0 { ">" } else { ">>" };
            format!("cmd.exe /c {sign}{file} echo {}", batch::in_line(line))
        })
    };
    written(GUARD_SCRIPT_FILE, &GUARD_SCRIPT)
        .chain(written(GUARD_POWERSHELL_FILE, &GUARD_POWERSHELL))
        .chain(written(GUARD_BATCH_FILE, &GUARD_BATCH))
}

/// The command that runs it.
pub(super) fn command(guard: &Guard) -> String {
    let Guard { disk, only, at_least, at_most } = guard;
    let only = u8::from(*only);
    format!("cmd.exe /c {GUARD_BATCH_FILE} {disk} {only} {at_least} {at_most}")
}

/// The guard that a command runs, as it is written here or was before.
pub(super) fn of_command(run: &str) -> Option<Guard> {
    let former = run.strip_prefix(&format!("cmd.exe /c cscript.exe //nologo {GUARD_SCRIPT_FILE} "));
    let former = former.and_then(|rest| rest.strip_suffix(&format!("& {GUARD_BATCH_FILE}")));
    let numbers = former.or_else(|| run.strip_prefix(&format!("cmd.exe /c {GUARD_BATCH_FILE} ")))?;
    let numbers: Vec<u64> = numbers.split(' ').filter_map(|word| word.parse().ok()).collect();
    let [disk, only, at_least, at_most] = numbers[..] else { return None };
    Some(Guard { disk: u32::try_from(disk).ok()?, only: only == 1, at_least, at_most })
}

impl Guard {
    /// What a disk asks for, if it does.
    pub fn of_disk(disk: &Disk) -> Option<Self> {
        let mib = |size: Option<Size>| size.and_then(Size::mib).unwrap_or(0);
        disk.is_guarded().then(|| Self {
            disk: disk.number.unwrap_or(0),
            only: disk.only_disk,
            at_least: mib(disk.at_least),
            at_most: mib(disk.at_most),
        })
    }
}
