//! Arguments of `config`.

use clap::Args;

/// Show what is filled in by itself: the depot, and language, publisher and folder of what is begun
#[derive(Debug, Args)]
#[command(after_help = "\
The file is ~/.config/neatstack/config.toml, with any of: depot, language, publisher, output_folder. `draft` and `answer new` \
fill in what it says; what a stack file says is never changed by it.

Example:
  neatstack config")]
pub(crate) struct ConfigArgs {}
