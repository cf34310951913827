//! `config`: what is filled in by itself.

use crate::{
    config::{self, Config},
    context::Context,
    show::config::{ConfigView, config as shown},
};
use neat_content::Result;

pub(crate) fn run(context: &Context) -> Result<()> {
    let path = config::path();
    let view = ConfigView {
        is_there: path.as_ref().is_some_and(|path| path.exists()),
        path: path.map(|path| path.display().to_string()),
        environment: super::depot::from_environment(),
        config: Config::read()?,
    };
    if context.json {
        return context.print_json(&view);
    }
    context.print(&shown(&view))
}
