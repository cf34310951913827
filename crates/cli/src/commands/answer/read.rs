//! `answer read`: from a dialect to the neutral form.

use super::{Opened, bytes_of, folder_of, give, open};
use crate::{args::ReadArgs, context::Context, show};
use neat_answer::{model::Origin, read_file};
use neat_content::{Content, DigestKind, Error, Result, digest_of};
use std::path::Path;

/// The path of `file` as seen from the folder of `model`, or absolute where that is not below.
pub(super) fn origin_path(file: &Path, model: Option<&Path>) -> Result<String> {
    let absolute = std::path::absolute(file).map_err(Error::io("find", file))?;
    let base = match model {
        Some(model) => std::path::absolute(model).map_err(Error::io("find", model))?,
        None => std::path::absolute("x").map_err(Error::io("find", Path::new(".")))?,
    };
    let base = folder_of(&base);
    Ok(absolute.strip_prefix(&base).unwrap_or(&absolute).display().to_string())
}

pub(super) fn read_answers(args: &ReadArgs, context: &Context) -> Result<()> {
    let Opened::File(file) = open(&args.file)? else {
        return Err(Error::request(
            format!("{} is in the neutral form already", args.file.display()),
            "write it in a dialect with `neatstack answer write`",
        ));
    };
    let reading = read_file(&file).map_err(|error| error.within(args.file.display()))?;
    let mut model = reading.model;
    model.origin = Some(Origin {
        dialect: file.dialect,
        file: origin_path(&args.file, args.output.output.as_deref())?,
        sha256: digest_of(&Content::from_bytes(bytes_of(&args.file)?), DigestKind::Sha256, &context.job())?,
    });
    if context.json && args.output.output.is_none() {
        return context.print_json(&show::answer::ReadView {
            dialect: file.dialect.name(),
            model,
            findings: reading.findings,
        });
    }
    let text = format!("# Read from {}, {}.\n{}", args.file.display(), file.dialect.name(), model.to_toml()?);
    give(&text, &args.output, context)?;
    if !reading.findings.is_empty() {
        context.say(&show::answer::findings("Not in the neutral form", &reading.findings));
    }
    Ok(())
}
