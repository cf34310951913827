//! The configuration file of GRUB 2.

use super::{DISK_ID, DISK_TITLE, Menu, OnTimeout, Starts};
use std::fmt::Write as _;

/// Starts a loader from the first disk that is not the one GRUB came from. Leaving GRUB alone would not do: firmware
/// takes that for success and shows its own menu instead of going on to the disk.
const START_DISK: [&str; 9] = [
    "insmod regexp",
    "for loader in (hd*,*)/EFI/BOOT/BOOTX64.EFI (hd*,*)/EFI/*/shimx64.efi (hd*,*)/EFI/*/grubx64.efi; do",
    "  regexp --set=1:disk '^[(](hd[0-9]+),' \"$loader\"",
    "  if [ \"$disk\" != \"$root\" -a -f \"$loader\" ]; then",
    "    chainloader \"$loader\"",
    "    boot",
    "  fi",
    "done",
    "exit",
];

/// The text of `grub.cfg`.
pub fn grub_config(menu: &Menu) -> String {
    let mut text = String::new();
    let mut line = |line: std::fmt::Arguments<'_>| {
        let _ = writeln!(text, "{line}");
    };
    if let Some(speed) = menu.serial_speed {
        line(format_args!("serial --unit=0 --speed={speed}"));
        line(format_args!("terminal_input console serial"));
        line(format_args!("terminal_output console serial"));
    }
    // Boot images are for BIOS.
    let shown = || menu.entries.iter().filter(|entry| entry.starts == Starts::Kernel);
    let wanted = menu.entries.get(menu.default).filter(|entry| entry.starts == Starts::Kernel);
    let default = wanted.or(shown().next()).map_or(DISK_ID, |entry| &entry.id);
    // GRUB starts the highlighted entry when the time is up, so that entry is what the time-out asks for.
    let default = if menu.on_timeout == OnTimeout::Disk { DISK_ID } else { default };
    line(format_args!("set default={default}"));
    match menu.on_timeout {
        OnTimeout::Wait => line(format_args!("set timeout=-1")),
        OnTimeout::Disk | OnTimeout::Default => line(format_args!("set timeout={}", menu.timeout_seconds)),
    }
    line(format_args!("# {}", menu.title));
    for entry in shown() {
        line(format_args!("\nmenuentry {} --id {} {{", quoted(&entry.title), entry.id));
        let options: String = entry
            .options
            .split(' ')
            .filter(|word| !word.is_empty())
            .map(|word| format!(" {}", quoted(word)))
            .collect();
        line(format_args!("  linux /{}{options}", entry.kernel));
        if !entry.initrds.is_empty() {
            let initrds: String = entry.initrds.iter().map(|path| format!(" /{path}")).collect();
            line(format_args!("  initrd{initrds}"));
        }
        line(format_args!("}}"));
    }
    line(format_args!("\nmenuentry {} --id {DISK_ID} {{", quoted(DISK_TITLE)));
    for command in START_DISK {
        line(format_args!("  {command}"));
    }
    line(format_args!("}}"));
    text
}

/// A word in single quotes unless it is plain; inside them only the quote itself means anything.
fn quoted(word: &str) -> String {
    let plain = |c: char| c.is_ascii_alphanumeric() || "-_./:=,+@%".contains(c);
    if !word.is_empty() && word.chars().all(plain) {
        return word.to_owned();
    }
    format!("'{}'", word.replace('\'', "'\\''"))
}

#[cfg(test)]
mod tests {
    use super::{super::sample, *};

    #[test]
    fn what_only_bios_starts_is_not_shown() {
        let mut menu = Menu { on_timeout: OnTimeout::Default, ..sample() };
        menu.entries[0].starts = Starts::BootImage;
        let text = grub_config(&menu);
        assert!(!text.contains("--id a ") && text.contains("set default=b\n"), "{text}");
    }

    #[test]
    fn words_are_quoted_and_the_time_out_leads_to_the_disk() {
        let text = grub_config(&sample());
        assert!(text.contains("menuentry 'It'\\''s A' --id a {\n  linux /systems/a/linux quiet 'url=http://x/y?a=1;b' '$x'\n  initrd /systems/a/i1 /systems/a/i2\n}"), "{text}");
        assert!(text.contains("set default=disk\nset timeout=5\n"), "{text}");
        assert!(
            grub_config(&Menu { on_timeout: OnTimeout::Wait, ..sample() })
                .contains("set default=a\nset timeout=-1\n")
        );
    }
}
