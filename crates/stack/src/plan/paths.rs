//! Where the files of a build go, and whether they may go there.

use crate::{
    output::FORMS,
    recipe::StackFile,
    report::{Finding, Weight},
};
use neat_content::{Error, Result, is_device_path};
use std::path::{Component, Path, PathBuf};

/// The path of an output that `key` names, below `base`.
///
/// # Errors
/// `Request` when it cannot be the path of a file, or is a device.
pub(crate) fn path(key: &str, text: &str, base: &Path) -> Result<PathBuf> {
    let path = base.join(text);
    let ends_in_name = matches!(Path::new(text).components().next_back(), Some(Component::Normal(_)));
    if !ends_in_name || text.ends_with('/') || path.is_dir() {
        return Err(Error::request(
            format!("`{key}`: {text:?} is not the name of a file"),
            "write the file's name too, as in \"out/media.iso\"",
        ));
    }
    if is_device_path(&path) {
        return Err(Error::request(
            format!("`{key}`: {text:?} is a device, and builds write files"),
            "write an image file, then `neatstack stick FILE --to DEVICE`, which checks the device",
        ));
    }
    Ok(path)
}

/// Refuses two outputs under one name; each is given with the key that names it.
pub(crate) fn apart(outputs: &[(&str, PathBuf)]) -> Result<()> {
    let plain = |path: &PathBuf| -> PathBuf {
        path.components().filter(|part| !matches!(part, Component::CurDir)).collect()
    };
    for (number, (key, path)) in outputs.iter().enumerate() {
        let twin =
            outputs[..number].iter().find(|(_, other)| plain(other) == plain(path) || is_same(other, path));
        if let Some((other_key, other)) = twin {
            return Err(Error::request(
                format!("`{other_key}` and `{key}` are the same file, {}", other.display()),
                "give each a name of its own",
            ));
        }
    }
    Ok(())
}

/// The keys that name outputs, for a hint.
pub(crate) fn keys(between: &str) -> String {
    FORMS.iter().map(|form| format!("`{}`", form.key)).collect::<Vec<_>>().join(between)
}

/// Findings about outputs that are what the build reads.
pub(crate) fn over_sources(stack: &StackFile, base: &Path, outputs: &[PathBuf]) -> Vec<Finding> {
    let section = stack.source.as_ref();
    let media = section.map(|section| base.join(&section.media));
    let image = section.and_then(|section| Some(base.join(section.image_from.as_ref()?)));
    let sources: Vec<PathBuf> = media.into_iter().chain(image).collect();
    let mut found = outputs.iter().filter(|output| sources.iter().any(|source| is_same(source, output)));
    let finding = |output: &PathBuf| Finding {
        weight: Weight::Refused,
        message: format!("{} is the source itself, which is never written", output.display()),
        hint: format!("give {} another name", keys(" or ")),
    };
    found.next().map(finding).into_iter().collect()
}

/// Whether two paths lead to one file that is there.
fn is_same(a: &Path, b: &Path) -> bool {
    match (a.canonicalize(), b.canonicalize()) {
        (Ok(a), Ok(b)) => a == b,
        _ => false,
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]
    use super::*;

    #[test]
    fn names_of_files_are_told_from_the_rest() {
        let dir = tempfile::tempdir().unwrap();
        std::fs::create_dir(dir.path().join("there")).unwrap();
        let path = |text| path("media.iso", text, dir.path());
        for good in ["a.iso", "out/a.iso", "./a", "../up.iso", "/tmp/x.iso", "there/a.iso"] {
            assert_eq!(path(good).unwrap(), dir.path().join(good), "{good}");
        }
        for bad in ["", ".", "..", "out/", "out/..", "/", "there"] {
            assert!(path(bad).unwrap_err().to_string().contains("not the name of a file"), "{bad}");
        }
        path("/dev/shm/a.iso").unwrap();
        for device in ["/dev/null", "/dev/sdq", "/dev/disk/by-id/x"] {
            assert!(path(device).unwrap_err().to_string().contains("is a device"), "{device}");
        }
    }

    #[test]
    fn one_name_for_two_files_is_refused() {
        let dir = tempfile::tempdir().unwrap();
        let at = |name: &str| dir.path().join(name);
        std::fs::write(at("a.iso"), "").unwrap();
        std::os::unix::fs::symlink(at("a.iso"), at("link")).unwrap();
        let apart = |a: &str, b: &str| apart(&[("media.iso", at(a)), ("media.stick.image", at(b))]);
        apart("a.iso", "b.img").unwrap();
        for (a, b) in [("a.iso", "a.iso"), ("a.iso", "./a.iso"), ("a.iso", "link"), ("new", "./new")] {
            let error = apart(a, b).unwrap_err().to_string();
            assert!(error.starts_with("`media.iso` and `media.stick.image` are the same file"), "{error}");
        }
    }
}
