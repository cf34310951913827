//! `stick update`: only what differs.

use crate::{args::StickUpdateArgs, context::Context};
use neat_content::{Error, Result};

pub(crate) fn run(args: &StickUpdateArgs, _context: &Context) -> Result<()> {
    Err(Error::request(format!("{}", args.to.display()), "later"))
}
