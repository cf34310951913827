//! Media whose menu starts kernels: what lies where, what the kernels are told, and what is refused.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

mod support;

use neat_content::Tree;
use neat_media::read;
use neat_stack::Weight;
use std::fs;
use support::{Bench, said};

/// A bench with made-up boot loaders, a kernel and a RAM disk.
fn bench(entry: &str, rest: &str) -> Bench {
    let text = format!(
        "[menu]\nbios_loader = \"loader\"\nuefi_loader = \"boot.efi\"\n{rest}\
         [[menu.entry]]\nid = \"lab\"\ntitle = \"The lab\"\nkernel = \"vmlinuz\"\ninitrd = [\"initrd\"]\n{entry}\
         [media]\nlabel = \"LAB\"\niso = \"t.iso\"\n"
    );
    let bench = Bench::alone(&text);
    fs::create_dir(bench.at("loader")).unwrap();
    for name in ["isolinux.bin", "ldlinux.c32", "libcom32.c32", "libutil.c32", "menu.c32"] {
        fs::write(bench.at("loader").join(name), vec![0x90; 4096]).unwrap();
    }
    fs::write(bench.at("boot.efi"), b"MZ a loader").unwrap();
    fs::write(bench.at("vmlinuz"), b"a kernel").unwrap();
    fs::write(bench.at("initrd"), b"a RAM disk").unwrap();
    bench
}

fn built(bench: &Bench) -> Tree {
    bench.build();
    read::open(&bench.at("t.iso")).unwrap().tree
}

fn bytes(tree: &Tree, path: &str) -> Vec<u8> {
    let content = tree.file(path).unwrap_or_else(|| panic!("{path} is not there"));
    content.to_vec(1 << 20, "file").unwrap()
}

fn text(tree: &Tree, path: &str) -> String {
    String::from_utf8(bytes(tree, path)).unwrap()
}

/// The words that the kernel of an entry gets, by the menu of each firmware.
fn words(tree: &Tree) -> [Vec<String>; 2] {
    let bios = text(tree, "isolinux/isolinux.cfg");
    let bios =
        bios.lines().find_map(|line| line.trim().strip_prefix("APPEND ")).unwrap_or_default().to_owned();
    let uefi = text(tree, "boot/grub/grub.cfg");
    let uefi =
        uefi.lines().find_map(|line| line.trim().strip_prefix("linux ")).unwrap_or_default().to_owned();
    let split = |line: &str| -> Vec<String> {
        let own = line.split_whitespace().filter(|word| !word.starts_with("initrd="));
        own.map(|word| word.trim_matches(['\'', '"']).replace('\\', "")).collect()
    };
    // GRUB's line begins with the kernel itself.
    [split(&bios), split(&uefi).split_off(1)]
}

/// Files of a RAM disk in the form "newc", read by its description: <https://docs.kernel.org/driver-api/early-userspace/buffer-format.html>.
fn ram_disk(mut bytes: &[u8]) -> Vec<(String, Vec<u8>)> {
    let mut files = Vec::new();
    loop {
        assert_eq!(&bytes[..6], b"070701");
        let field = |n: usize| {
            let hex = std::str::from_utf8(&bytes[6 + 8 * n..14 + 8 * n]).unwrap();
            usize::from_str_radix(hex, 16).unwrap()
        };
        let (size, name_len) = (field(6), field(11));
        let name = String::from_utf8(bytes[110..110 + name_len - 1].to_vec()).unwrap();
        let data = (110 + name_len).next_multiple_of(4);
        if name == "TRAILER!!!" {
            return files;
        }
        files.push((name, bytes[data..data + size].to_vec()));
        bytes = &bytes[(data + size).next_multiple_of(4)..];
    }
}

#[test]
fn a_menu_alone_makes_a_media_that_starts_on_both_firmwares() {
    let bench = bench("options = \"quiet --- splash\"\n", "timeout_seconds = 7\nserial_speed = 9600\n");
    let tree = built(&bench);
    assert_eq!(bytes(&tree, "systems/lab/linux"), b"a kernel");
    assert_eq!(bytes(&tree, "systems/lab/initrd0.img"), b"a RAM disk");
    assert_eq!(bytes(&tree, "EFI/BOOT/BOOTX64.EFI"), b"MZ a loader");
    assert_eq!(words(&tree), [["quiet", "---", "splash"], ["quiet", "---", "splash"]]);
    let bios = text(&tree, "isolinux/isolinux.cfg");
    assert!(bios.contains("TIMEOUT 70") && bios.contains("SERIAL 0 9600"), "{bios}");
    let uefi = text(&tree, "boot/grub/grub.cfg");
    assert!(uefi.contains("timeout=7") && uefi.contains("9600"), "{uefi}");
    let plan = bench.plan();
    let firmwares: Vec<&str> = plan.output.boot.iter().map(|own| own.platform.as_str()).collect();
    assert_eq!(firmwares.len(), 2, "{firmwares:?}");
    assert_eq!(said(&plan, Weight::Refused), [""; 0]);
}

#[test]
fn answers_lie_where_each_installer_looks_and_its_kernel_is_told() {
    let answers =
        "format = 1\nerases = \"yes\"\n[language]\nsetup = \"en-GB\"\n[[account]]\nname = \"ann\"\n";
    for (dialect, at, file, expected) in [
        ("preseed", "initrd", "", "priority=critical"),
        ("preseed", "media", "systems/lab/preseed.cfg", "file=/cdrom/systems/lab/preseed.cfg"),
        ("preseed", "root", "preseed.cfg", "file=/cdrom/preseed.cfg"),
        ("kickstart", "media", "systems/lab/ks.cfg", "inst.ks=hd:LABEL=LAB:/systems/lab/ks.cfg"),
        ("autoinstall", "media", "systems/lab/user-data", "ds=nocloud;s=/cdrom/systems/lab/"),
        ("autoyast", "media", "systems/lab/autoinst.xml", "autoyast=label://LAB/systems/lab/autoinst.xml"),
    ] {
        let entry = format!(
            "answer = {{ file = \"a.answer.toml\", at = \"{at}\", dialect = \"{dialect}\", accept = [\"no-password\", \"asks\"] }}\n"
        );
        let bench = bench(&entry, "");
        fs::write(bench.at("a.answer.toml"), answers).unwrap();
        let tree = built(&bench);
        for own in words(&tree) {
            assert!(own.iter().any(|word| word == expected), "{dialect} {at}: {own:?}");
        }
        if file.is_empty() {
            let files = ram_disk(&bytes(&tree, "systems/lab/answers.img"));
            assert_eq!(files.len(), 1);
            assert_eq!(files[0].0, "preseed.cfg");
            assert!(String::from_utf8_lossy(&files[0].1).contains("passwd/username string ann"));
        } else {
            assert!(!bytes(&tree, file).is_empty(), "{file}");
        }
        // Whoever finds the media reads what it does.
        assert!(text(&tree, "neatstack/what-this-does.txt").contains("It makes the account ann"));
    }
}

#[test]
fn answers_and_sources_at_addresses_are_said_in_each_dialects_words() {
    for (address, source, expected) in [
        ("http://a.example/preseed.cfg", None, vec!["url=http://a.example/preseed.cfg"]),
        (
            "http://a.example/ks.cfg",
            Some("http://b.example/os"),
            vec!["inst.ks=http://a.example/ks.cfg", "inst.repo=http://b.example/os"],
        ),
        (
            "http://a.example/autoinst.xml",
            Some("http://b.example/os"),
            vec!["autoyast=http://a.example/autoinst.xml", "install=http://b.example/os"],
        ),
    ] {
        let source = source.map(|own| format!(", source = \"{own}\"")).unwrap_or_default();
        let entry = format!(
            "options = \"quiet\"\nanswer = {{ at = \"address\", address = \"{address}\"{source} }}\n"
        );
        let tree = built(&bench(&entry, ""));
        for own in words(&tree) {
            assert!(
                expected.iter().all(|wanted| own.iter().any(|word| word == wanted)),
                "{address}: {own:?}"
            );
            assert_eq!(own.last().map(String::as_str), Some("quiet"), "ours come first: {own:?}");
        }
    }
}

#[test]
fn what_an_entry_cannot_do_is_refused_with_its_name() {
    for (entry, rest, word) in [
        ("answer = { at = \"media\" }\n", "", "the answer file of the entry lab is not named"),
        ("answer = { at = \"address\" }\n", "", "has no address"),
        (
            "answer = { file = \"a.answer.toml\", dialect = \"autoinstall\", at = \"initrd\", accept = [\"no-password\"] }\n",
            "",
            "not read from an initial RAM disk",
        ),
        (
            "answer = { file = \"a.answer.toml\", dialect = \"unattend\", at = \"media\", accept = [\"no-password\", \"unsaid\"] }\n",
            "",
            "not read beside a kernel",
        ),
        (
            "answer = { at = \"address\", address = \"http://a/preseed.cfg\", source = \"http://b\" }\n",
            "",
            "no option for an installation source",
        ),
        (
            "answer = { at = \"address\", address = \"http://a/ks.cfg\", source = \"two words\" }\n",
            "",
            "no address of an installation source",
        ),
        ("", "default = \"lob\"\n", "there is no entry lob"),
    ] {
        let bench = bench(entry, rest);
        fs::write(bench.at("a.answer.toml"), "format = 1\n[[account]]\nname = \"ann\"\n").unwrap();
        let error = bench.error();
        assert!(error.contains(word), "{entry}{rest}: {error}");
        assert!(!bench.at("t.iso").exists());
    }
}

#[test]
fn a_label_with_blanks_is_no_option_of_a_kernel() {
    let entry = "answer = { file = \"a.answer.toml\", dialect = \"autoyast\", at = \"media\", accept = [\"no-password\"] }\n";
    let bench = bench(entry, "").changed("LAB\"", "THE LAB\"");
    fs::write(bench.at("a.answer.toml"), "format = 1\n[[account]]\nname = \"ann\"\n").unwrap();
    let error = bench.error();
    assert!(error.contains("THE LAB") && error.contains("blank"), "{error}");
}

#[test]
fn a_media_without_one_of_the_loaders_says_so_and_without_both_is_refused() {
    let one = bench("", "");
    fs::remove_file(one.at("loader/ldlinux.c32")).unwrap();
    let error = one.error();
    assert!(error.contains("menu.bios_loader") && error.contains("ldlinux.c32"), "{error}");
    let other = bench("", "");
    fs::remove_file(other.at("boot.efi")).unwrap();
    assert!(other.error().contains("menu.uefi_loader"));
}

#[test]
fn an_entry_takes_the_answers_of_the_root() {
    let entry = "answer = { at = \"root\" }\n";
    let rest = "[answer]\nfile = \"a.answer.toml\"\ndialects = [\"preseed\"]\naccept = [\"no-password\", \"asks\"]\n";
    let bench = bench(entry, "");
    let bench = bench.changed("[media]", &format!("{rest}[media]"));
    fs::write(bench.at("a.answer.toml"), "format = 1\n[[account]]\nname = \"ann\"\n").unwrap();
    let tree = built(&bench);
    assert!(text(&tree, "preseed.cfg").contains("passwd/username string ann"));
    for own in words(&tree) {
        assert!(own.iter().any(|word| word == "file=/cdrom/preseed.cfg"), "{own:?}");
    }
}

#[test]
fn the_text_on_the_media_tells_of_every_entry() {
    let entry = |id: &str, dialect: &str| {
        format!(
            "answer = {{ file = \"{id}.answer.toml\", at = \"media\", dialect = \"{dialect}\", accept = [\"no-password\", \"asks\"] }}\n"
        )
    };
    let second =
        "[[menu.entry]]\nid = \"desk\"\ntitle = \"The desk\"\nkernel = \"vmlinuz\"\ninitrd = [\"initrd\"]\n";
    let bench = bench(&(entry("lab", "preseed") + second + &entry("desk", "kickstart")), "");
    for (id, account) in [("lab", "ann"), ("desk", "ben")] {
        let answers = format!("format = 1\n[[account]]\nname = \"{account}\"\n");
        fs::write(bench.at(&format!("{id}.answer.toml")), answers).unwrap();
    }
    let notice = text(&built(&bench), "neatstack/what-this-does.txt");
    for line in [
        "With its preseed answers:",
        "It makes the account ann",
        "With its kickstart answers:",
        "It makes the account ben",
    ] {
        assert!(notice.contains(line), "{line}: {notice}");
    }
    assert_eq!(bench.plan().answers.len(), 2);
}
