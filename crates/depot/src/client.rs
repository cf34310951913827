//! Reading a depot, from a folder or over HTTP.

use crate::{
    Key, SIGNATURE_ENDING,
    index::{INDEX_NAME, Index, Item, MAX_INDEX_LEN},
    sign::{self, MAX_SIGNATURE_LEN},
};
use neat_content::{Advice, Content, Error, Result};
use percent_encoding::{AsciiSet, CONTROLS, utf8_percent_encode};
use std::{
    io::Read,
    path::{Path, PathBuf},
    time::Duration,
};
use ureq::Agent;

/// Bytes received at a time.
const RECEIVE: usize = 256 << 10;
/// Redirections that are followed.
const MAX_REDIRECTS: u32 = 5;
/// What stands in the way of a path in an address.
const PATH: &AsciiSet = &CONTROLS
    .add(b' ')
    .add(b'"')
    .add(b'#')
    .add(b'<')
    .add(b'>')
    .add(b'?')
    .add(b'`')
    .add(b'{')
    .add(b'}')
    .add(b'%');

/// A depot.
#[derive(Clone, Debug)]
pub struct Depot {
    place: Place,
    /// Who must have signed the index.
    key: Option<Key>,
}

#[derive(Clone, Debug)]
enum Place {
    Folder(PathBuf),
    /// Address of the folder, without a `/` at its end.
    Http(String),
}

impl Depot {
    /// A depot at `location`: an `http://` address, or a folder, relative to `base`. With `#key=` and a public key behind
    /// it, only an index that is signed with that key is taken.
    pub fn at(location: &str, base: &Path) -> Result<Self> {
        let (location, key) = match location.split_once("#key=") {
            Some((location, key)) => (location, Some(Key::parse(key)?)),
            None => (location, None),
        };
        let place = match location.split_once("://") {
            None => Place::Folder(base.join(location)),
            Some(("http", _)) => Place::Http(location.trim_end_matches('/').to_owned()),
            Some((scheme, _)) => {
                return Err(Error::request(
                    format!("{location}: depots are reached by http://, not by {scheme}://"),
                    "depots serve the loopback address or a local network; give a folder or an http:// address",
                ));
            }
        };
        Ok(Self { place, key })
    }

    /// The same depot, of which only an index is taken that is signed with `key`, besides a key in its address.
    #[must_use]
    pub fn signed_by(self, key: Option<Key>) -> Self {
        Self { key: key.or(self.key), ..self }
    }

    /// Where it is, for people.
    pub fn location(&self) -> String {
        match &self.place {
            Place::Folder(path) => path.display().to_string(),
            Place::Http(address) => address.clone(),
        }
    }

    /// The file of an item, when the depot is a folder of this machine.
    pub fn local_path(&self, item: &Item) -> Option<PathBuf> {
        match &self.place {
            Place::Folder(path) => Some(path.join(&item.file)),
            Place::Http(_) => None,
        }
    }

    /// Address of a file of the depot; `None` for a folder.
    pub(crate) fn address(&self, file: &str) -> Option<String> {
        match &self.place {
            Place::Folder(_) => None,
            Place::Http(address) => Some(format!("{address}/{}", utf8_percent_encode(file, PATH))),
        }
    }

    /// Reads the index. `patience` is how long an answer may take.
    pub fn index(&self, patience: Duration) -> Result<Index> {
        let text = match &self.place {
            Place::Folder(path) => {
                let path = path.join(INDEX_NAME);
                if let Some(key) = &self.key {
                    sign::check_file(key, &path)?;
                }
                if !path.is_file() {
                    return Err(Error::request(
                        format!("there is no {}", path.display()),
                        Advice::IndexDepot,
                    ));
                }
                Content::from_path(&path)?.to_vec(MAX_INDEX_LEN, "index of a depot")?
            }
            Place::Http(_) => {
                let text = self.get(INDEX_NAME, MAX_INDEX_LEN, patience)?;
                if let Some(key) = &self.key {
                    let name = format!("{INDEX_NAME}{SIGNATURE_ENDING}");
                    let signature = self.get(&name, MAX_SIGNATURE_LEN, patience)?;
                    let content = Content::from_bytes(text.as_slice());
                    key.check(&content, &signature, &self.address(INDEX_NAME).unwrap_or_default())?;
                }
                text
            }
        };
        let text = String::from_utf8(text).map_err(|_| Error::Mismatch {
            expected: "the index of a depot".into(),
            found: "something that is not UTF-8".into(),
            hint: "check the depot's address".into(),
        });
        text.and_then(|text| Index::parse(&text)).map_err(|error| error.within(self.location()))
    }

    /// A small file of the depot, at most `limit` bytes.
    fn get(&self, name: &str, limit: u64, patience: Duration) -> Result<Vec<u8>> {
        let address = self.address(name).unwrap_or_default();
        let mut response = agent(patience).get(&address).call().map_err(|error| failed(&address, &error))?;
        let status = response.status().as_u16();
        if status != 200 {
            return Err(Error::Mismatch {
                expected: format!("{name} of a depot"),
                found: format!("the answer {status} from {address}"),
                hint: "check the depot's address, and that it serves a depot".into(),
            });
        }
        let mut bytes = Vec::new();
        let reader = response.body_mut().as_reader();
        reader.take(limit + 1).read_to_end(&mut bytes).map_err(Error::io("read", Path::new(&address)))?;
        if bytes.len() as u64 > limit {
            let found = bytes.len() as u64;
            return Err(Error::Limit {
                what: format!("size in bytes of {address}"),
                offset: 0,
                limit,
                found,
            });
        }
        Ok(bytes)
    }
}

/// An agent that gives up after `patience` without an answer.
pub(crate) fn agent(patience: Duration) -> Agent {
    let config = Agent::config_builder()
        .max_redirects(MAX_REDIRECTS)
        .input_buffer_size(RECEIVE)
        .http_status_as_error(false)
        .proxy(None)
        .timeout_resolve(Some(patience))
        .timeout_connect(Some(patience))
        .timeout_recv_response(Some(patience))
        .timeout_recv_body(Some(patience))
        .user_agent(concat!("neatstack/", env!("CARGO_PKG_VERSION")));
    config.build().into()
}

/// A request that came to nothing.
pub(crate) fn failed(address: &str, error: &ureq::Error) -> Error {
    if matches!(error, ureq::Error::TooManyRedirects) {
        return Error::Mismatch {
            expected: format!("an answer from {address}"),
            found: format!("more than {MAX_REDIRECTS} redirections"),
            hint: "the depot leads in circles; tell who runs it, or use another".into(),
        };
    }
    let hint = match error {
        ureq::Error::Timeout(_) => Advice::MorePatience,
        _ => Advice::ServeDepot,
    };
    Error::system(format!("reach {address}"), std::io::Error::other(error.to_string()), hint)
}
