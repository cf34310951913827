//! What answers name on the media: whether it is there, and whether its bytes are what it is named for.

use super::MediaFacts;
use crate::{Finding, SideFile, Topic};
use neat_content::{Content, ReadAt};

/// How files begin, by the ending of their name: program files, packages (a cabinet, or an image file for the newer form of
/// updates), compound files of installers.
const SIGNATURES: [(&str, &[&[u8]]); 6] = [
    ("exe", &[b"MZ"]),
    ("dll", &[b"MZ"]),
    ("cab", &[b"MSCF"]),
    ("msu", &[b"MSCF", b"MSWIM\0\0\0"]),
    ("msi", &[b"\xD0\xCF\x11\xE0\xA1\xB1\x1A\xE1"]),
    ("msp", &[b"\xD0\xCF\x11\xE0\xA1\xB1\x1A\xE1"]),
];
/// Places on the media and on the disk that setup copies from it, in lower case.
const MARKS: [&str; 3] = ["%configsetroot%\\", "/cdrom/", "%systemdrive%\\neatstack\\"];

impl MediaFacts {
    /// Where a path that means the media was looked for, if it does.
    fn entry(&self, path: &str) -> Option<(String, Option<&Option<Content>>)> {
        let local = on_media(path)?;
        let found = self.paths.get(local.trim_matches('/'));
        (!local.is_empty()).then_some((local, found))
    }

    /// What is wrong with a path that means the media; nothing when it means another place.
    pub(crate) fn fault(&self, path: &str) -> Option<String> {
        let (local, found) = self.entry(path)?;
        let Some(found) = found else { return Some(format!("media:/{local}, which is not on the media")) };
        let content = found.as_ref()?;
        if content.is_empty() {
            return Some(format!("media:/{local}, which is empty"));
        }
        let (_, ending) = local.rsplit_once('.')?;
        let (_, fronts) = SIGNATURES.iter().find(|(own, _)| *own == ending)?;
        let mut bytes = [0; 8];
        let len = content.len().min(8) as usize;
        if content.read_exact_at(0, &mut bytes[..len]).is_err() {
            return Some(format!("media:/{local}, which cannot be read"));
        }
        let is_it = fronts.iter().any(|front| bytes[..len].starts_with(front));
        (!is_it).then(|| format!("media:/{local}, which is no .{ending} file by its bytes"))
    }

    /// What is wrong with a folder of files of a kind, such as `inf`.
    pub(crate) fn folder_fault(&self, path: &str, ending: &str) -> Option<String> {
        let (local, found) = self.entry(path)?;
        if found.is_none() {
            return Some(format!("media:/{local}, which is not on the media"));
        }
        let front = format!("{}/", local.trim_matches('/'));
        let ending = format!(".{ending}");
        let mut own =
            self.paths.iter().filter(|(path, _)| path.starts_with(&front) && path.ends_with(&ending));
        let first = own.next();
        match first {
            None => Some(format!("media:/{local}, which has no {ending} file")),
            Some((path, content)) => {
                let empty = std::iter::once((path, content)).chain(own);
                let mut empty = empty.filter(|(_, content)| content.as_ref().is_some_and(Content::is_empty));
                empty.next().map(|(path, _)| format!("media:/{path}, which is empty"))
            }
        }
    }

    /// What is wrong with files on the media that a command names.
    pub(crate) fn faults_in_command(&self, run: &str) -> Vec<String> {
        let lower = run.to_lowercase();
        let mut found = Vec::new();
        for mark in MARKS {
            for (at, _) in lower.match_indices(mark) {
                let rest = lower.get(at..).unwrap_or_default();
                let end = rest
                    .find(|c: char| c.is_whitespace() || matches!(c, '"' | '\'' | ';' | '&' | ')'))
                    .unwrap_or(rest.len());
                let path = &rest[..end];
                if let Some((folder, ending)) = path.split_once("\\*.") {
                    found.extend(self.folder_fault(folder, ending));
                } else if !path.contains(['*', '?', '$']) && !path.ends_with(".b64") {
                    found.extend(self.fault(path));
                }
            }
        }
        found
    }

    /// What is wrong with files that lie beside answers: not there, or with other bytes than the answers were made with.
    pub fn side_files(&self, files: &[SideFile]) -> Vec<Finding> {
        let is_same = |file: &SideFile, content: &Content| {
            content.len() == file.bytes.len() as u64
                && content.to_vec(file.bytes.len() as u64, "file").is_ok_and(|bytes| bytes == file.bytes)
        };
        let fault = |file: &SideFile| match self.paths.get(&file.path.to_lowercase()) {
            Some(Some(content)) if is_same(file, content) => None,
            Some(_) => Some("has other bytes on the media"),
            None => Some("is not on the media"),
        };
        let finding = |file: &SideFile| {
            let message = format!("{} {}", file.path, fault(file)?);
            let hint = "build the media with these answers, or put the file there with [[place]]";
            Some(Finding::new(Topic::NotOnMedia, "script", message, hint))
        };
        files.iter().filter_map(finding).collect()
    }
}

/// The path on the media that a path in an answer file means; none when it means another place.
fn on_media(path: &str) -> Option<String> {
    let slashed = path.replace('\\', "/");
    let lower = slashed.to_lowercase();
    if let Some(rest) = lower.strip_prefix("%configsetroot%/") {
        return Some(rest.to_owned());
    }
    if let Some(rest) = lower.strip_prefix("/cdrom/") {
        return Some(rest.to_owned());
    }
    if let Some(rest) = lower.strip_prefix("%systemdrive%/neatstack/") {
        return Some(format!("sources/$oem$/$1/neatstack/{rest}"));
    }
    let mut chars = lower.chars();
    let is_drive = chars.next().is_some_and(|c| c.is_ascii_alphabetic()) && chars.next() == Some(':');
    // The setup environment's own disk is X:, the installed system's C:; others are the media more often than not.
    (is_drive && !lower.starts_with("x:") && !lower.starts_with("c:"))
        .then(|| lower.get(2..).unwrap_or_default().trim_matches('/').to_owned())
        .filter(|rest| !rest.is_empty())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn media(files: &[(&str, &[u8])]) -> MediaFacts {
        let mut facts = MediaFacts::default();
        for (path, bytes) in files {
            for (at, _) in path.match_indices('/') {
                facts.paths.insert(path[..at].to_owned(), None);
            }
            facts.paths.insert((*path).to_owned(), Some(Content::from_bytes(bytes.to_vec())));
        }
        facts
    }

    #[test]
    fn what_a_command_names_is_there_with_bytes_of_its_kind() {
        let media = media(&[
            ("tools/check.exe", b"MZ\x90"),
            ("tools/text.exe", b"not a program"),
            ("tools/short.msi", b"\xD0"),
            ("tools/none.cmd", b""),
            ("updates/a.msu", b"MSCF...."),
            ("updates/b.msu", b"MSWIM\0\0\0"),
            ("sources/$oem$/$1/neatstack/run.cmd", b"@echo off"),
            ("sources/$oem$/$1/neatstack/up/x.msu", b"MSCF"),
        ]);
        for run in [
            "cmd.exe /c \"%configsetroot%\\Tools\\CHECK.exe\" /x",
            "%ConfigSetRoot%\\updates\\a.msu %configsetroot%\\updates\\b.msu",
            "sh /cdrom/sources/$oem$",
            "cmd /c \"%SystemDrive%\\neatstack\\run.cmd\"",
            "cmd /c for %u in (\"%SystemDrive%\\neatstack\\up\\*.msu\") do start %u",
            "cmd /c dir C:\\tools\\gone.exe",
        ] {
            assert_eq!(media.faults_in_command(run), [""; 0], "{run}");
        }
        for (run, expected) in [
            ("%configsetroot%\\tools\\gone.exe", "media:/tools/gone.exe, which is not on the media"),
            ("%configsetroot%\\tools\\text.exe", "media:/tools/text.exe, which is no .exe file by its bytes"),
            (
                "%configsetroot%\\tools\\short.msi",
                "media:/tools/short.msi, which is no .msi file by its bytes",
            ),
            ("sh /cdrom/tools/none.cmd; true", "media:/tools/none.cmd, which is empty"),
            (
                "cmd /c for %u in (\"%SystemDrive%\\neatstack\\gone\\*.msu\") do start %u",
                "media:/sources/$oem$/$1/neatstack/gone, which is not on the media",
            ),
            (
                "cmd /c for %u in (\"%configsetroot%\\tools\\*.msu\") do start %u",
                "media:/tools, which has no .msu file",
            ),
        ] {
            assert_eq!(media.faults_in_command(run), [expected], "{run}");
        }
    }

    #[test]
    fn a_folder_of_drivers_has_drivers() {
        let media = media(&[
            ("drivers/net/net.inf", b"[Version]"),
            ("drivers/empty/a.inf", b""),
            ("drivers/empty/b.inf", b"[Version]"),
            ("drivers/cat/net.cat", b"x"),
        ]);
        let fault = |path: &str| media.folder_fault(path, "inf");
        assert_eq!(fault("%configsetroot%\\drivers\\net"), None);
        assert_eq!(fault("X:\\drivers"), None, "the setup environment's own disk");
        assert_eq!(fault("D:\\drivers\\cat").unwrap(), "media:/drivers/cat, which has no .inf file");
        assert_eq!(fault("E:\\drivers\\empty\\").unwrap(), "media:/drivers/empty/a.inf, which is empty");
        assert_eq!(fault("E:\\driver").unwrap(), "media:/driver, which is not on the media");
    }

    #[test]
    fn files_beside_answers_have_the_bytes_that_these_were_made_with() {
        let media = media(&[("neatstack/a.sh", b"echo a\n"), ("neatstack/b.sh", b"echo B\n")]);
        let file = |path: &str, bytes: &[u8]| SideFile { path: path.into(), bytes: bytes.to_vec() };
        let all = [
            file("neatstack/a.sh", b"echo a\n"),
            file("neatstack/b.sh", b"echo b\n"),
            file("neatstack/c.sh", b"echo c\n"),
        ];
        let found: Vec<String> = media.side_files(&all).into_iter().map(|own| own.message).collect();
        assert_eq!(
            found,
            ["neatstack/b.sh has other bytes on the media", "neatstack/c.sh is not on the media"]
        );
    }
}
