//! The configuration file of the BIOS loader in Debian's package `isolinux`.

use super::{DISK_ID, DISK_TITLE, Menu, OnTimeout, Starts};
use std::fmt::Write as _;

/// The text of `isolinux.cfg`.
pub fn isolinux_config(menu: &Menu) -> String {
    let mut text = String::new();
    // Writing to a string cannot fail.
    let mut line = |line: std::fmt::Arguments<'_>| {
        let _ = writeln!(text, "{line}");
    };
    if let Some(speed) = menu.serial_speed {
        line(format_args!("SERIAL 0 {speed}"));
    }
    if menu.menu_module {
        line(format_args!("UI menu.c32"));
    }
    line(format_args!("PROMPT 1"));
    line(format_args!("MENU TITLE {}", menu.title));
    let default = menu.entries.get(menu.default).or(menu.entries.first()).map_or(DISK_ID, |entry| &entry.id);
    line(format_args!("DEFAULT {default}"));
    // In tenths of a second; 0 waits for ever.
    let tenths =
        if menu.on_timeout == OnTimeout::Wait { 0 } else { menu.timeout_seconds.saturating_mul(10).max(1) };
    line(format_args!("TIMEOUT {tenths}"));
    match menu.on_timeout {
        OnTimeout::Disk => line(format_args!("ONTIMEOUT {DISK_ID}")),
        OnTimeout::Default => line(format_args!("ONTIMEOUT {default}")),
        OnTimeout::Wait => {}
    }
    for entry in &menu.entries {
        line(format_args!("\nLABEL {}", entry.id));
        line(format_args!("  MENU LABEL {}", entry.title));
        let word = if entry.starts == Starts::BootImage { "BOOT" } else { "KERNEL" };
        line(format_args!("  {word} /{}", entry.kernel));
        let initrds: Vec<String> = entry.initrds.iter().map(|path| format!("/{path}")).collect();
        if !initrds.is_empty() {
            line(format_args!("  INITRD {}", initrds.join(",")));
        }
        if !entry.options.is_empty() {
            line(format_args!("  APPEND {}", entry.options));
        }
    }
    line(format_args!("\nLABEL {DISK_ID}"));
    line(format_args!("  MENU LABEL {DISK_TITLE}"));
    // −1 hands over to the firmware's next boot device; a drive number could be this very media on a stick.
    line(format_args!("  LOCALBOOT -1"));
    text
}

#[cfg(test)]
mod tests {
    use super::{
        super::{MenuEntry, sample},
        *,
    };

    #[test]
    fn times_out_to_the_disk_unless_told_otherwise() {
        let text = isolinux_config(&sample());
        assert!(text.contains("\nTIMEOUT 50\nONTIMEOUT disk\n"), "{text}");
        assert!(text.contains("LABEL a\n  MENU LABEL It's A\n  KERNEL /systems/a/linux\n  INITRD /systems/a/i1,/systems/a/i2\n"), "{text}");
        assert!(
            text.contains("LABEL disk\n  MENU LABEL Start from the hard disk\n  LOCALBOOT -1\n"),
            "{text}"
        );
        let text = isolinux_config(&Menu { on_timeout: OnTimeout::Default, default: 1, ..sample() });
        assert!(text.contains("DEFAULT b\nTIMEOUT 50\nONTIMEOUT b\n"), "{text}");
        let mut menu = sample();
        menu.entries[1] =
            MenuEntry { starts: Starts::BootImage, kernel: "BOOT.BIN".into(), ..menu.entries[1].clone() };
        assert!(isolinux_config(&menu).contains("LABEL b\n  MENU LABEL B\n  BOOT /BOOT.BIN\n"));
        let text = isolinux_config(&Menu { on_timeout: OnTimeout::Wait, ..sample() });
        assert!(text.contains("TIMEOUT 0\n") && !text.contains("ONTIMEOUT"), "{text}");
    }
}
