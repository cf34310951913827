//! Media of the older generation, made by hand, and the one that ships.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    missing_docs,
    reason = "tests stop at the first surprise"
)]

use neat_content::{Content, Hold, Job, Meta, Timestamp, Tree};
use neat_demo::program_of_version;
use neat_older::{FileVersion, OlderSetup, recompress};
use neat_package::{SingleForm, compress_single};
use neat_testing::single::expand_older;
use proptest::prelude::*;

const WHEN: Timestamp = Timestamp::from_seconds(988_963_200);

fn tree(files: &[(&str, &[u8])]) -> Tree {
    let mut tree = Tree::new(Meta::at(WHEN));
    for (path, bytes) in files {
        tree.put_file(path, Content::from_bytes(*bytes), Meta::at(WHEN)).unwrap();
    }
    tree
}

#[test]
fn a_media_says_what_it_is_for_each_architecture() {
    let kernel = program_of_version([3, 1, 4000, 7], 0x0407, 9_000);
    let packed = compress_single("ntkrnlmp.exe", &kernel, SingleForm::Older, WHEN).unwrap();
    let product = b"[Product Specification]\r\nProduct=Hafen 3\r\nVersion=3.1\r\nLocalization=German\r\nServicePackNumber=2\r\n";
    let described = b"[SetupData]\r\nMajorVersion = 3\r\nMinorVersion=1\r\nDefaultPath = \\HAFEN\r\n[nls]\r\nDefaultLayout = E0010407\r\n";
    let commands = b"[Commands]\r\n\"driver.exe /s, /q\"\r\n\"cmd /c set a=b\"\r\n; nothing\r\n";
    let all = tree(&[
        ("I386/TXTSETUP.SIF", described),
        ("I386/ProdSpec.ini", product),
        ("I386/NTKRNLMP.EX_", &packed),
        ("I386/WINNT.SIF", b"[Unattended]\r\n"),
        ("unattend.txt", b"[Unattended]\r\n"),
        ("$OEM$/cmdlines.txt", commands),
        ("$OEM$/driver.exe", b"MZ"),
        ("$OEM$/$1/Tools/a.txt", b"1234"),
        ("$OEM$/$1/b.txt", b"5"),
        ("$OEM$/$$/System32/c.dll", b"67"),
        ("$OEM$/D/d.txt", b"8"),
        ("$OEM$/textmode/oem.sys", b"9"),
        ("$OEM$/other/e.txt", b"0"),
        (
            "MIPS/TXTSETUP.SIF",
            b"[SetupData]\r\nMajorVersion = 3\r\nMinorVersion = 0\r\n[Strings]\r\nProduct = \"Hafen\"\r\n",
        ),
        ("docs/readme.txt", b"no setup here"),
    ]);
    let found = OlderSetup::find(&all).unwrap();
    let [x86, mips] = found.as_slice() else { panic!("{found:?}") };
    assert_eq!(
        (x86.folder.as_str(), x86.architecture.as_str(), x86.product.as_str()),
        ("I386", "x86", "Hafen 3")
    );
    assert_eq!((x86.version.as_str(), x86.service_pack, x86.language), ("3.1.4000.7", Some(2), Some(0x0407)));
    assert_eq!((x86.localization.as_str(), x86.target.as_str()), ("German", "\\HAFEN"));
    assert_eq!(x86.compressed, (1, packed.len() as u64));
    assert_eq!(x86.answers, ["I386/WINNT.SIF", "unattend.txt"]);
    assert_eq!(x86.additions.places, ["$OEM$"]);
    assert_eq!(x86.additions.commands, ["driver.exe /s, /q", "cmd /c set a=b"]);
    let folders: Vec<(&str, &str, u64, u64)> = x86
        .additions
        .folders
        .iter()
        .map(|own| (own.name.as_str(), own.to.as_str(), own.files, own.bytes))
        .collect();
    assert_eq!(
        folders,
        [
            ("$$", "the folder of the system", 1, 2),
            ("$1", "the root of the system's drive", 2, 5),
            ("D", "the root of drive D:", 1, 1),
            ("other", "nowhere: setup only runs what lies here", 1, 1),
            ("textmode", "drivers for the text phase", 1, 1),
        ]
    );
    assert_eq!(
        (mips.architecture.as_str(), mips.product.as_str(), mips.version.as_str()),
        ("mips", "Hafen", "3.0")
    );
    assert!(OlderSetup::find(&tree(&[("sources/install.wim", b"x")])).unwrap().is_empty());
}

#[test]
fn compressed_files_become_smaller_and_mean_the_same() {
    let text: Vec<u8> = b"the keeper of the lighthouse reads the charts of the harbour. ".repeat(300);
    let noise: Vec<u8> = (0..4_000_u32).map(|n| (n.wrapping_mul(2_654_435_761) >> 24) as u8).collect();
    let older = compress_single("text.hlp", &text, SingleForm::Older, WHEN).unwrap();
    let cabinet = compress_single("same.dll", &text, SingleForm::Cabinet, WHEN).unwrap();
    let noisy = compress_single("noise.sys", &noise, SingleForm::Older, WHEN).unwrap();
    let mut damaged = older.clone();
    damaged.truncate(200);
    let mut all = tree(&[
        ("I386/TXTSETUP.SIF", b"[SetupData]\r\n"),
        ("I386/TEXT.HL_", &older),
        ("I386/deep/SAME.DL_", &cabinet),
        ("I386/NOISE.SY_", &noisy),
        ("I386/BAD.HL_", &damaged),
        ("I386/plain.ex_", b"not compressed at all"),
        ("elsewhere/TEXT.HL_", &older),
    ]);
    let setup = OlderSetup::find(&all).unwrap().remove(0);
    let hold = Hold::new(1 << 20, &std::env::temp_dir());
    let done = recompress(&mut all, &setup, &hold, &Job::silent()).unwrap();
    let bytes = |path: &str| all.file(path).unwrap().to_vec(1 << 20, "").unwrap();
    assert_eq!(done.smaller + done.same + done.damaged.len() as u64, 5, "{done:?}");
    assert!(done.damaged.len() == 1 && done.damaged[0].starts_with("I386/BAD.HL_: "), "{done:?}");
    let now: u64 = ["TEXT.HL_", "deep/SAME.DL_", "NOISE.SY_", "BAD.HL_", "plain.ex_"]
        .iter()
        .map(|name| bytes(&format!("I386/{name}")).len() as u64)
        .sum();
    assert!(done.after == now && done.before > now, "{done:?}, {now}");
    let packed = bytes("I386/TEXT.HL_");
    let own = neat_package::expand_single("TEXT.HL_", &Content::from_bytes(packed.clone()), 1 << 20)
        .unwrap()
        .unwrap();
    assert!(own.content.to_vec(1 << 20, "").unwrap() == text && own.form == SingleForm::Cabinet);
    assert!(packed.len() < older.len() / 2 && own.name.eq_ignore_ascii_case("text.hlp"));
    assert!(bytes("I386/BAD.HL_") == damaged && bytes("elsewhere/TEXT.HL_") == older, "others stay");
    assert!(expand_older(&older).unwrap() == text);
    // Once more nothing changes.
    let again = recompress(&mut all, &setup, &hold, &Job::silent()).unwrap();
    assert_eq!((again.smaller, again.before, again.after), (0, now, now));
}

#[test]
fn versions_are_read_and_damage_is_an_error() {
    let program = program_of_version([2, 1, 2604, 65_535], 0x0414, 2_000);
    let version = FileVersion::of(&program).unwrap().unwrap();
    assert_eq!((version.to_string().as_str(), version.language), ("2.1.2604.65535", 0x0414));
    assert!(version < FileVersion { numbers: [2, 1, 2605, 0], language: 0 });
    for other in [&b""[..], b"MZ", b"PE\0\0", &program[..0x80]] {
        assert_eq!(FileVersion::of(other).unwrap(), None);
    }
    // As another tool reads it, field by field: the signature and the numbers behind it.
    let at = program.windows(4).position(|own| own == 0xFEEF_04BD_u32.to_le_bytes()).unwrap();
    assert_eq!(program[at + 8..at + 16], [1, 0, 2, 0, 0xFF, 0xFF, 0x2C, 0x0A]);
    for len in 0x90..program.len().min(0x500) {
        match FileVersion::of(&program[..len]) {
            Ok(Some(own)) => assert_eq!(own, version),
            Ok(None) => {}
            Err(error) => assert!(error.to_string().contains("version resource"), "{error}"),
        }
    }
}

proptest! {
    #[test]
    fn nothing_that_a_program_says_of_itself_leads_astray(
        changes in proptest::collection::vec((0_usize..0x500, any::<u8>()), 0..12),
    ) {
        let mut program = program_of_version([1, 2, 3, 4], 9, 1_700);
        for (at, byte) in changes {
            program[at] = byte;
        }
        let _ = FileVersion::of(&program);
    }

    #[test]
    fn any_description_is_read_or_passed_over(text in "(\\[(SetupData|nls|Strings)\\]\r\n|[A-Za-z]{0,9} *= *[\"%A-Z0-9]{0,9}\r\n|\\PC{0,20}\n){0,20}") {
        let _ = OlderSetup::find(&tree(&[("I386/TXTSETUP.SIF", text.as_bytes()), ("$OEM$/cmdlines.txt", text.as_bytes())]));
    }
}
