//! `draft`: a commented stack file.

use crate::{args::DraftArgs, context::Context};
use neat_content::Result;

pub(crate) fn run(args: &DraftArgs, context: &Context) -> Result<()> {
    let media = super::kind::media(&args.media)?;
    let text = neat_stack::draft(&media, &args.media.to_string_lossy());
    if context.json {
        context.print_json(&crate::show::build::DraftView { stack: text })
    } else {
        context.print_document(&text)
    }
}
