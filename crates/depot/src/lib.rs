//! Depots: folders of media and updates with an index, and fetching from them.
//!
//! A depot is a folder with `depot.json` in its root ([`Index`]): what each file is, its size and its digests.
//! [`Server`] offers one over HTTP; [`Depot`] reads one, from a folder or over HTTP, and [`Depot::fetch`] gets a file:
//! it resumes, and writes nothing under the final name until the digest is right. An index, and with it all that it
//! describes, can be signed; so can packages alone ([`sign`], [`Key`]).

#![forbid(unsafe_code)]

mod client;
mod digest;
mod fetch;
mod index;
mod serve;
mod sign;

pub use client::Depot;
pub use digest::{Digests, digests_of};
pub use fetch::{FetchOptions, Fetched};
pub use index::{INDEX_NAME, Index, Item, ItemKind, Reference, Search};
pub use serve::{Beside, Request, Server};
pub use sign::{Key, SIGNATURE_ENDING, check_file, new_keys, sign, signature_path};
