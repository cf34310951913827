//! The question about the disks.

use crate::model::{Disk, Size};

/// Conditions for laying out a disk, sizes in MiB.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Guard {
    pub device: String,
    pub only: bool,
    pub at_least: u64,
    pub at_most: u64,
}

/// Whether there is one disk. Neither what the kernel makes up (memory, arrays, network) nor discs, boot areas of memory
/// cards, and what hangs on USB or calls itself removable counts: the media may be among these.
const ONLY_DISK: &str = "{ n=0; for d in /sys/block/*; do case $(readlink -f $d) in \
    (*/virtual/*|*/usb*|*/session*|*/sr[0-9]*|*/fd[0-9]*|*boot[0-9]|*rpmb) ;; \
    (*) [ $(cat $d/removable) -eq 1 ] || n=$((n+1)) ;; esac; done; [ $n -eq 1 ]; }";
/// How versions before 0.2 asked it.
const FORMER_ONLY_DISK: &str = "grep -c 0) -eq 1 ]";

impl Guard {
    pub fn of_disk(disk: &Disk) -> Option<Self> {
        let mib = |size: Option<Size>| size.and_then(Size::mib).unwrap_or(0);
        disk.is_guarded().then(|| Self {
            device: if disk.device.is_empty() { "sda".into() } else { disk.device.clone() },
            only: disk.only_disk,
            at_least: mib(disk.at_least),
            at_most: mib(disk.at_most),
        })
    }

    /// The line, which ends with `stop` unless everything is as wanted.
    pub fn say(&self, stop: &str) -> String {
        let Self { device, only, at_least, at_most } = self;
        let mut tests =
            vec![format!("s=$(($(cat /sys/block/{device}/size)/2048))"), format!("[ $s -ge {at_least} ]")];
        if *at_most > 0 {
            tests.push(format!("[ $s -le {at_most} ]"));
        }
        if *only {
            tests.push(ONLY_DISK.into());
        }
        format!("{} || {stop}", tests.join(" && "))
    }

    /// What a line asks.
    pub fn understand(line: &str, stop: &str) -> Option<Self> {
        let tests = line.strip_suffix(&format!(" || {stop}"))?;
        let rest = tests.strip_prefix("s=$(($(cat /sys/block/")?;
        let device = rest.split_once("/size)")?.0.to_owned();
        let number = |sign: &str| {
            let rest = tests.split_once(&format!("[ $s {sign} "))?.1;
            rest.split_once(' ')?.0.parse().ok()
        };
        Some(Self {
            device,
            only: tests.contains(ONLY_DISK) || tests.contains(FORMER_ONLY_DISK),
            at_least: number("-ge").unwrap_or(0),
            at_most: number("-le").unwrap_or(0),
        })
    }
}
