//! Updates for Quay OS 7, and applications for its consoles.

use crate::{RELEASED, words};
use neat_content::{Content, IfThere, Job, Meta, PendingFile, Result, Tree};
use neat_package::{UPDATE_ENDING, UpdateSection, UpdateType, Version, write_update};
use std::path::Path;

/// An update: what it says of itself, its files, its registration text.
type Made = (UpdateSection, Vec<(String, Vec<u8>)>, &'static str);

fn version(text: &str) -> Version {
    Version::parse(text).unwrap_or_default()
}

fn all() -> Vec<Made> {
    let section = |id: &str, title: &str, number: &str, kind: UpdateType| UpdateSection {
        id: id.into(),
        title: title.into(),
        version: version(number),
        kind,
        architecture: Some("x64".into()),
        ..UpdateSection::default()
    };
    let cumulative = |id: &str, title: &str, number: &str, system: &str| UpdateSection {
        series: Some("monthly".into()),
        needs: vec!["quay-7-servicing-2026-08".into()],
        minimum_system: Some(version("7.0.7042")),
        resulting_system: Some(version(system)),
        removes: vec!["Quay/System32/winch-old.lib".into()],
        registry: vec!["registry/build.reg".into()],
        ..section(id, title, number, UpdateType::Cumulative)
    };
    let lib =
        |name: &str, seed: u64, len: usize| (format!("Quay/System32/{name}"), words::program(seed, len));
    vec![
        (
            section(
                "quay-7-servicing-2026-08",
                "Servicing stack, August 2026",
                "7.0.7050.1",
                UpdateType::Servicing,
            ),
            vec![lib("servicing.lib", 501, 60_000)],
            "",
        ),
        (
            cumulative("quay-7-2026-09", "Cumulative update, September 2026", "7.0.7085.2", "7.0.7085.2"),
            vec![lib("kernel.lib", 511, 91_000), lib("dock.lib", 512, 133_000)],
            "REGEDIT4\r\n\r\n[HKEY_LOCAL_MACHINE\\SOFTWARE\\Microsoft\\Windows NT\\CurrentVersion]\r\n\"CurrentBuild\"=\"7085\"\r\n",
        ),
        (
            cumulative("quay-7-2026-10", "Cumulative update, October 2026", "7.0.7091.3", "7.0.7091.3"),
            vec![
                lib("kernel.lib", 521, 92_000),
                lib("dock.lib", 522, 134_000),
                lib("radio.lib", 523, 197_000),
            ],
            "REGEDIT4\r\n\r\n[HKEY_LOCAL_MACHINE\\SOFTWARE\\Microsoft\\Windows NT\\CurrentVersion]\r\n\"CurrentBuild\"=\"7091\"\r\n",
        ),
        (
            UpdateSection {
                language: Some("da-DK".into()),
                minimum_system: Some(version("7.0.7042")),
                registry: vec!["registry/language.reg".into()],
                ..section("quay-7-danish", "Danish", "7.0.7042.1", UpdateType::Language)
            },
            vec![
                ("Quay/System32/da-DK/messages.txt".into(), words::prose("da-DK", 58_000)),
                ("Quay/System32/da-DK/help.txt".into(), words::prose("help-da-DK", 29_000)),
            ],
            "REGEDIT4\r\n\r\n[HKEY_LOCAL_MACHINE\\SYSTEM\\CurrentControlSet\\Control\\MUI\\UILanguages\\da-DK]\r\n\"Type\"=dword:00000091\r\n",
        ),
        (
            UpdateSection {
                architecture: Some("arm64".into()),
                ..section("quay-7-radio-fix", "Radio fix for small consoles", "7.0.7060.1", UpdateType::Fix)
            },
            vec![lib("radio.lib", 531, 88_000)],
            "",
        ),
    ]
}

/// Puts the applications into the demo folder's tree, and writes the updates into the folder itself.
pub(crate) fn put_all(tree: &mut Tree, folder: &Path, job: &Job<'_>) -> Result<()> {
    let meta = Meta::at(RELEASED);
    let mut put =
        |path: &str, bytes: Vec<u8>| tree.put_file(path, Content::from_bytes(bytes), meta).map(drop);
    put("apps/chartview.exe", [b"MZ".to_vec(), words::program(601, 70_000)].concat())?;
    put("apps/moorings/setup.cmd", b"@echo off\r\nxcopy /s /y \"%~dp0data\" C:\\Moorings\\\r\n".to_vec())?;
    put("apps/moorings/data/moorings.txt", words::prose("moorings", 9_000))?;
    let updates = folder.join("updates");
    std::fs::create_dir_all(&updates).map_err(neat_content::Error::io("create", &updates))?;
    for (section, files, text) in all() {
        let mut tree = Tree::new(meta);
        for (path, bytes) in files {
            tree.put_file(&path, Content::from_bytes(bytes), meta)?;
        }
        let texts: Vec<(String, Content)> = section
            .registry
            .iter()
            .map(|name| (name.clone(), Content::from_bytes(text.as_bytes())))
            .collect();
        let path = updates.join(format!("{}{UPDATE_ENDING}", section.id));
        let (pending, mut output) = PendingFile::create_output(&path, IfThere::Replace, None)?;
        write_update(&section, &tree, &texts, &mut output, job)?;
        let file = output.finish()?.0;
        if let Some(time) = RELEASED.to_system_time() {
            file.set_modified(time).map_err(neat_content::Error::io("set the time of", &path))?;
        }
        pending.commit(file)?;
    }
    Ok(())
}
