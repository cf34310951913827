//! Offering a depot over HTTP (RFC 9110): whole files and single ranges of them.

use crate::{
    client::Depot,
    fetch::etag,
    index::{INDEX_NAME, Index, Item},
};
use http_body_util::{Either, Full};
use hyper::{
    Method, StatusCode,
    body::{Body, Bytes, Frame, Incoming, SizeHint},
    header::{ACCEPT_RANGES, CONTENT_LENGTH, CONTENT_RANGE, CONTENT_TYPE, ETAG, HeaderMap, IF_RANGE, RANGE},
    server::conn::http1,
    service::service_fn,
};
use hyper_util::rt::TokioIo;
use neat_content::{Advice, Error, Result};
use percent_encoding::percent_decode_str;
use std::{
    collections::HashMap,
    convert::Infallible,
    fs::File,
    io,
    net::{IpAddr, SocketAddr, TcpListener},
    os::unix::fs::FileExt,
    path::{Path, PathBuf},
    pin::Pin,
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    task::{Context, Poll},
    time::Duration,
};
use tokio::sync::mpsc;

/// Bytes read at a time.
const BLOCK: u64 = 512 << 10;
/// How often the stop flag is looked at.
const GLANCE: Duration = Duration::from_millis(100);

/// A request that was answered.
#[derive(Clone, Debug)]
pub struct Request {
    /// Who asked.
    pub from: SocketAddr,
    /// The path that was asked for.
    pub path: String,
    /// The answer.
    pub status: u16,
    /// Bytes of the answer's body.
    pub bytes: u64,
}

/// A depot that is being served.
pub struct Server {
    listener: TcpListener,
    address: SocketAddr,
    shared: Arc<Shared>,
}

struct Shared {
    folder: PathBuf,
    index_text: Bytes,
    /// Signature of the index, where there is one.
    signature: Option<Bytes>,
    items: HashMap<String, Item>,
    beside: Option<Beside>,
}

/// Answers paths that are no items of the depot: who asks, status and bytes; `None` for what it does not know either.
pub type Beside = Arc<dyn Fn(&str, IpAddr) -> Option<(u16, Vec<u8>)> + Send + Sync>;

type Answer = hyper::Response<Either<Full<Bytes>, FileBody>>;

impl Server {
    /// Reads the index in `folder` and listens at `address`; port 0 stands for any that is free.
    pub fn bind(folder: &Path, address: IpAddr, port: u16) -> Result<Self> {
        let depot = Depot::at(&folder.display().to_string(), Path::new(""))?;
        let index: Index = depot.index(Duration::ZERO)?;
        let at = SocketAddr::from((address, port));
        let unheard = |error: io::Error| Error::system(format!("listen at {at}"), error, Advice::OtherPort);
        let listener = TcpListener::bind(at).map_err(unheard)?;
        listener.set_nonblocking(true).map_err(unheard)?;
        let address = listener.local_addr().map_err(unheard)?;
        // The text as it lies there is what was signed.
        let path = folder.join(INDEX_NAME);
        let index_text = neat_content::read_small(&path, crate::index::MAX_INDEX_LEN, "index of a depot")?;
        let signed = crate::sign::signature_path(&path);
        let signature = if signed.is_file() {
            Some(neat_content::read_small(&signed, crate::sign::MAX_SIGNATURE_LEN, "signature")?.into())
        } else {
            None
        };
        let shared = Shared {
            folder: folder.to_owned(),
            index_text: index_text.into(),
            signature,
            items: index.items.into_iter().map(|item| (item.file.clone(), item)).collect(),
            beside: None,
        };
        Ok(Self { listener, address, shared: Arc::new(shared) })
    }

    /// Asks `beside` for what is no item.
    #[must_use]
    pub fn with(mut self, beside: Beside) -> Self {
        if let Some(shared) = Arc::get_mut(&mut self.shared) {
            shared.beside = Some(beside);
        }
        self
    }

    /// Address of the depot.
    pub fn url(&self) -> String {
        format!("http://{}", self.address)
    }

    /// Number of files that it has.
    pub fn items(&self) -> usize {
        self.shared.items.len()
    }

    /// Answers until `stop` is set. `answered` hears of every request.
    pub fn run(self, stop: &AtomicBool, answered: &Arc<dyn Fn(Request) + Send + Sync>) -> Result<()> {
        let failed = |error: io::Error| Error::system("serve the depot", error, "");
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().map_err(failed)?;
        runtime.block_on(async {
            let listener = tokio::net::TcpListener::from_std(self.listener).map_err(failed)?;
            while !stop.load(Ordering::Relaxed) {
                let Ok(accepted) = tokio::time::timeout(GLANCE, listener.accept()).await else { continue };
                // A client that is gone before it is heard, or too many open files: the next may fare better.
                let Ok((stream, from)) = accepted else {
                    tokio::time::sleep(GLANCE).await;
                    continue;
                };
                let _ = stream.set_nodelay(true);
                let (shared, answered) = (Arc::clone(&self.shared), Arc::clone(answered));
                tokio::spawn(async move {
                    let service = service_fn(|request: hyper::Request<Incoming>| {
                        let answer = shared.answer(&request, from.ip());
                        let bytes = answer.body().size_hint().exact().unwrap_or(0);
                        let path = request.uri().path().to_owned();
                        answered(Request { from, path, status: answer.status().as_u16(), bytes });
                        async move { Ok::<_, Infallible>(answer) }
                    });
                    // A client that breaks off is not our trouble.
                    let _ = http1::Builder::new().serve_connection(TokioIo::new(stream), service).await;
                });
            }
            Ok(())
        })
    }
}

impl Shared {
    fn answer(&self, request: &hyper::Request<Incoming>, from: IpAddr) -> Answer {
        let is_head = request.method() == Method::HEAD;
        if !is_head && request.method() != Method::GET {
            return text(StatusCode::METHOD_NOT_ALLOWED, "a depot is only read\n");
        }
        let path = percent_decode_str(request.uri().path().trim_start_matches('/')).decode_utf8_lossy();
        if path == INDEX_NAME {
            let body = Either::Left(Full::new(if is_head { Bytes::new() } else { self.index_text.clone() }));
            let answer = hyper::Response::builder().header(CONTENT_TYPE, "application/json").body(body);
            return answer.unwrap_or_else(|_| text(StatusCode::INTERNAL_SERVER_ERROR, "\n"));
        }
        if let Some(signature) = self.signature.as_ref().filter(|_| is_signature(&path)) {
            let body = Either::Left(Full::new(if is_head { Bytes::new() } else { signature.clone() }));
            return hyper::Response::new(body);
        }
        // Only what the index names is there, whatever lies beside it.
        let Some(item) = self.items.get(path.as_ref()) else {
            return match self.beside.as_ref().and_then(|beside| beside(&path, from)) {
                Some((status, bytes)) => own(status, bytes, is_head),
                None => text(StatusCode::NOT_FOUND, "the depot has no such file\n"),
            };
        };
        let file = File::open(self.folder.join(&item.file));
        let Some(file) =
            file.ok().filter(|file| file.metadata().is_ok_and(|m| m.is_file() && m.len() == item.size))
        else {
            return text(StatusCode::GONE, "the file is not what the index says; make the index again\n");
        };
        let Ok(range) = wanted_range(request.headers(), item) else {
            return text(StatusCode::RANGE_NOT_SATISFIABLE, "the file is shorter\n");
        };
        let (start, end) = range.unwrap_or((0, item.size));
        let mut answer = hyper::Response::builder()
            .header(CONTENT_TYPE, "application/octet-stream")
            .header(ACCEPT_RANGES, "bytes")
            .header(ETAG, etag(item));
        if range.is_some() {
            answer = answer
                .status(StatusCode::PARTIAL_CONTENT)
                .header(CONTENT_RANGE, format!("bytes {start}-{}/{}", end - 1, item.size));
        }
        let body = if is_head {
            answer = answer.header(CONTENT_LENGTH, end - start);
            Either::Left(Full::new(Bytes::new()))
        } else {
            Either::Right(FileBody::start(file, start, end))
        };
        answer.body(body).unwrap_or_else(|_| text(StatusCode::INTERNAL_SERVER_ERROR, "\n"))
    }
}

/// Whether a path is that of the index's signature.
fn is_signature(path: &str) -> bool {
    path.strip_suffix(crate::sign::SIGNATURE_ENDING) == Some(INDEX_NAME)
}

/// First byte and the one after the last that are wanted; `None` for all. `Err` when there are no such bytes.
fn wanted_range(headers: &HeaderMap, item: &Item) -> std::result::Result<Option<(u64, u64)>, ()> {
    let header = |name| headers.get(name).and_then(|value| value.to_str().ok());
    if header(IF_RANGE).is_some_and(|wanted| wanted != etag(item)) {
        return Ok(None);
    }
    // Several ranges, and units that nobody uses, are answered with everything (RFC 9110 14.2).
    let range = header(RANGE).and_then(|range| range.strip_prefix("bytes=")?.split_once('-'));
    let Some((first, last)) = range else { return Ok(None) };
    let (first, last) = match (first.parse::<u64>(), last.parse::<u64>(), last.is_empty()) {
        (Ok(first), _, true) => (first, item.size),
        (Ok(first), Ok(last), _) if last >= first => (first, item.size.min(last.saturating_add(1))),
        (Err(_), Ok(count), _) if first.is_empty() => (item.size.saturating_sub(count), item.size),
        _ => return Ok(None),
    };
    if first < last { Ok(Some((first, last))) } else { Err(()) }
}

/// Bytes that are made for the request.
fn own(status: u16, bytes: Vec<u8>, is_head: bool) -> Answer {
    let answer = hyper::Response::builder().status(status).header(CONTENT_LENGTH, bytes.len());
    let body = Either::Left(Full::new(if is_head { Bytes::new() } else { bytes.into() }));
    let answer = answer.header(CONTENT_TYPE, "text/plain; charset=utf-8").body(body);
    answer.unwrap_or_else(|_| text(StatusCode::INTERNAL_SERVER_ERROR, "\n"))
}

fn text(status: StatusCode, text: &'static str) -> Answer {
    let mut answer = hyper::Response::new(Either::Left(Full::new(Bytes::from_static(text.as_bytes()))));
    *answer.status_mut() = status;
    answer
}

/// Part of a file, read ahead on another thread.
struct FileBody {
    blocks: mpsc::Receiver<io::Result<Bytes>>,
    left: u64,
}

impl FileBody {
    fn start(file: File, start: u64, end: u64) -> Self {
        let (sender, blocks) = mpsc::channel(4);
        tokio::task::spawn_blocking(move || {
            let mut at = start;
            while at < end {
                let mut block = vec![0; BLOCK.min(end - at) as usize];
                let result = file.read_exact_at(&mut block, at).map(|()| Bytes::from(block));
                let failed = result.is_err();
                at += BLOCK;
                if sender.blocking_send(result).is_err() || failed {
                    break;
                }
            }
        });
        Self { blocks, left: end - start }
    }
}

impl Body for FileBody {
    type Data = Bytes;
    type Error = io::Error;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
    ) -> Poll<Option<io::Result<Frame<Bytes>>>> {
        self.blocks.poll_recv(context).map(|block| {
            block.map(|block| {
                let block = block?;
                self.left = self.left.saturating_sub(block.len() as u64);
                Ok(Frame::data(block))
            })
        })
    }

    fn size_hint(&self) -> SizeHint {
        SizeHint::with_exact(self.left)
    }
}
