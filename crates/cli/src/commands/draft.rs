//! `draft`: a commented stack file.

use crate::{args::DraftArgs, context::Context};
use neat_content::Result;
use serde_json::json;

pub(crate) fn run(args: &DraftArgs, context: &Context) -> Result<()> {
    let media = super::kind::media(&args.media)?;
    let text = neat_stack::draft(&media, &args.media.to_string_lossy());
    if context.json { context.print_json(&json!({ "stack": text })) } else { context.print_document(&text) }
}
