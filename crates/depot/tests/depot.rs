//! Depots from outside: what a server answers, read as HTTP by hand; what a client makes of servers that are sound,
//! break off or lie; signatures.

#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

use neat_content::{Class, Content, Job};
use neat_depot::{
    Depot, FetchOptions, INDEX_NAME, Index, Item, ItemKind, Key, Reference, Request, Server, check_file,
    digests_of, new_keys, sign, signature_path,
};
use std::{
    fs,
    io::{Read, Write},
    net::{IpAddr, Ipv4Addr, TcpListener, TcpStream},
    path::Path,
    sync::{
        Arc, Mutex,
        atomic::{AtomicBool, Ordering},
    },
    thread::{self, JoinHandle},
    time::Duration,
};

const LOOPBACK: IpAddr = IpAddr::V4(Ipv4Addr::LOCALHOST);
const OPTIONS: FetchOptions = FetchOptions { patience: Duration::from_secs(2), attempts: 3 };

/// Bytes that are not the same anywhere.
fn bytes(len: usize) -> Vec<u8> {
    let mut state = 7_u64;
    let mut next = || {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
        (state >> 56) as u8
    };
    (0..len).map(|_| next()).collect()
}

fn item(id: &str, file: &str, content: &[u8]) -> Item {
    let digests = digests_of(&Content::from_bytes(content), &Job::silent()).unwrap();
    Item {
        id: id.into(),
        kind: ItemKind::Media,
        title: String::new(),
        version: "7.0.1".into(),
        system: String::new(),
        editions: Vec::new(),
        languages: Vec::new(),
        architecture: String::new(),
        date: String::new(),
        file: file.into(),
        size: content.len() as u64,
        sha256: digests.sha256,
        blake3: digests.blake3,
    }
}

/// A folder with a file, an index of it, and a file that the index does not name.
fn folder(content: &[u8]) -> (tempfile::TempDir, Item) {
    let dir = tempfile::tempdir().unwrap();
    fs::create_dir(dir.path().join("media")).unwrap();
    fs::write(dir.path().join("media/quay 7.iso"), content).unwrap();
    fs::write(dir.path().join("secret.txt"), "not for others").unwrap();
    let item = item("quay/x64", "media/quay 7.iso", content);
    let index = Index { format: Index::FORMAT, title: "Store".into(), items: vec![item.clone()] };
    fs::write(dir.path().join(INDEX_NAME), index.to_text().unwrap()).unwrap();
    (dir, item)
}

/// A served folder; stopped when dropped.
struct Served {
    url: String,
    stop: Arc<AtomicBool>,
    heard: Arc<Mutex<Vec<(String, u16)>>>,
    thread: Option<JoinHandle<()>>,
}

impl Served {
    fn start(folder: &Path) -> Self {
        let server = Server::bind(folder, LOOPBACK, 0).unwrap();
        let url = server.url();
        let (stop, heard) = (Arc::new(AtomicBool::new(false)), Arc::new(Mutex::new(Vec::new())));
        let (ended, list) = (Arc::clone(&stop), Arc::clone(&heard));
        let thread = thread::spawn(move || {
            let answered: Arc<dyn Fn(Request) + Send + Sync> =
                Arc::new(move |request: Request| list.lock().unwrap().push((request.path, request.status)));
            server.run(&ended, &answered).unwrap();
        });
        Self { url, stop, heard, thread: Some(thread) }
    }

    /// Status line, headers in lower case and body of an answer, read as RFC 9112 has it.
    fn ask(&self, request: &str) -> (u16, String, Vec<u8>) {
        let mut stream = TcpStream::connect(self.url.strip_prefix("http://").unwrap()).unwrap();
        stream.write_all(format!("{request}\r\nHost: x\r\nConnection: close\r\n\r\n").as_bytes()).unwrap();
        let mut all = Vec::new();
        stream.read_to_end(&mut all).unwrap();
        let end = all.windows(4).position(|window| window == b"\r\n\r\n").unwrap();
        let head = String::from_utf8(all[..end].to_vec()).unwrap();
        let status = head.split(' ').nth(1).unwrap().parse().unwrap();
        (status, head.to_lowercase(), all[end + 4..].to_vec())
    }
}

impl Drop for Served {
    fn drop(&mut self) {
        self.stop.store(true, Ordering::Relaxed);
        self.thread.take().unwrap().join().unwrap();
    }
}

#[test]
fn a_server_gives_what_the_index_names_and_nothing_else() {
    let content = bytes(100_000);
    let (dir, item) = folder(&content);
    let served = Served::start(dir.path());
    let (status, head, body) = served.ask("GET /media/quay%207.iso HTTP/1.1");
    assert!(status == 200 && body == content && head.contains("content-length: 100000"), "{head}");
    let tag = head.lines().find_map(|line| line.strip_prefix("etag: ")).unwrap().to_owned();
    let ask = |rest: &str| served.ask(&format!("GET /media/quay%207.iso HTTP/1.1\r\n{rest}"));
    for (range, start, end) in [
        ("bytes=0-9", 0, 10),
        ("bytes=99990-", 99_990, 100_000),
        ("bytes=-7", 99_993, 100_000),
        ("bytes=99999-200000", 99_999, 100_000),
    ] {
        let (status, head, body) = ask(&format!("Range: {range}"));
        assert!(status == 206 && body == content[start..end], "{range}: {head}");
        assert!(head.contains(&format!("content-range: bytes {start}-{}/100000", end - 1)), "{head}");
    }
    assert_eq!(ask("Range: bytes=100000-").0, 416);
    // What cannot be met is answered with everything; so is a part of what has changed.
    for rest in ["Range: bytes=9-2", "Range: lines=1-2", "Range: bytes=0-1\r\nIf-Range: \"other\""] {
        let (status, _, body) = ask(rest);
        assert!(status == 200 && body == content, "{rest}");
    }
    assert_eq!(ask(&format!("Range: bytes=0-1\r\nIf-Range: {tag}")).2, content[..2]);
    let (status, head, body) = served.ask("HEAD /media/quay%207.iso HTTP/1.1");
    assert!(status == 200 && body.is_empty() && head.contains("content-length: 100000"), "{head}");
    for (request, wanted) in [
        ("GET /secret.txt HTTP/1.1", 404),
        ("GET /../secret.txt HTTP/1.1", 404),
        ("GET /media/%2e%2e/secret.txt HTTP/1.1", 404),
        ("GET / HTTP/1.1", 404),
        ("GET /depot.json.minisig HTTP/1.1", 404),
        ("POST /depot.json HTTP/1.1", 405),
        ("DELETE /media/quay%207.iso HTTP/1.1", 405),
    ] {
        assert_eq!(served.ask(request).0, wanted, "{request}");
    }
    fs::write(dir.path().join(&item.file), "shorter").unwrap();
    assert_eq!(served.ask("GET /media/quay%207.iso HTTP/1.1").0, 410);
    assert!(served.heard.lock().unwrap().contains(&("/secret.txt".to_owned(), 404)));
}

#[test]
fn files_are_fetched_whole_and_cut_off_ones_gone_on_with() {
    let content = bytes(3_000_000);
    let (dir, item) = folder(&content);
    let to = tempfile::tempdir().unwrap();
    let target = to.path().join("quay.iso");
    let served = Served::start(dir.path());
    let depot = Depot::at(&served.url, Path::new("")).unwrap();
    let index = depot.index(OPTIONS.patience).unwrap();
    assert_eq!(index.items, std::slice::from_ref(&item));
    assert_eq!(*index.find(&Reference::of("quay")).unwrap(), item);
    let fetched = depot.fetch(&item, &target, OPTIONS, &Job::silent()).unwrap();
    assert_eq!((fetched.transferred, fetched.resumed, fetched.interruptions), (3_000_000, 0, 0));
    assert!(fs::read(&target).unwrap() == content);
    // From a folder the same.
    let copy = to.path().join("copy.iso");
    let local = Depot::at(&dir.path().display().to_string(), Path::new("")).unwrap();
    local.fetch(&item, &copy, OPTIONS, &Job::silent()).unwrap();
    assert!(fs::read(&copy).unwrap() == content);
    let mut names: Vec<_> = fs::read_dir(to.path()).unwrap().map(|own| own.unwrap().file_name()).collect();
    names.sort();
    assert_eq!(names, ["copy.iso", "quay.iso"]);
}

/// Answers each connection with the next of these parts of the file: how many bytes of it are promised beyond those sent.
fn breaking(content: Vec<u8>, parts: Vec<usize>) -> String {
    let listener = TcpListener::bind((LOOPBACK, 0)).unwrap();
    let url = format!("http://{}", listener.local_addr().unwrap());
    thread::spawn(move || {
        for part in parts {
            let (mut stream, _) = listener.accept().unwrap();
            let mut request = vec![0; 4096];
            let len = stream.read(&mut request).unwrap();
            let request = String::from_utf8_lossy(&request[..len]).to_lowercase();
            let from: usize = request
                .split("range: bytes=")
                .nth(1)
                .and_then(|rest| rest.split('-').next()?.parse().ok())
                .unwrap_or(0);
            let rest = &content[from..];
            let head = if from > 0 {
                format!(
                    "HTTP/1.1 206 Partial Content\r\nContent-Range: bytes {from}-{}/{}\r\nContent-Length: {}\r\n\r\n",
                    content.len() - 1,
                    content.len(),
                    rest.len()
                )
            } else {
                format!("HTTP/1.1 200 OK\r\nContent-Length: {}\r\n\r\n", rest.len())
            };
            let _ = stream.write_all(head.as_bytes());
            let _ = stream.write_all(&rest[..part.min(rest.len())]);
        }
    });
    url
}

#[test]
fn connections_that_break_off_are_taken_up_again_where_they_ended() {
    let content = bytes(5_000_000);
    let item = item("quay/x64", "q.iso", &content);
    let dir = tempfile::tempdir().unwrap();
    let target = dir.path().join("q.iso");
    let url = breaking(content.clone(), vec![2_000_000, 1_500_000, usize::MAX]);
    let depot = Depot::at(&url, Path::new("")).unwrap();
    let fetched = depot.fetch(&item, &target, OPTIONS, &Job::silent()).unwrap();
    assert_eq!(fetched.interruptions, 2);
    assert!(fs::read(&target).unwrap() == content);
    // One that never brings anything is given up, and what came is kept for the next run.
    fs::remove_file(&target).unwrap();
    let url = breaking(content.clone(), vec![2_000_000, 0, 0, 0]);
    let error =
        Depot::at(&url, Path::new("")).unwrap().fetch(&item, &target, OPTIONS, &Job::silent()).unwrap_err();
    assert!(error.class() == Class::Io && error.to_string().contains("after 2000000 of 5000000"), "{error}");
    assert!(!target.exists());
    let url = breaking(content.clone(), vec![usize::MAX]);
    let fetched =
        Depot::at(&url, Path::new("")).unwrap().fetch(&item, &target, OPTIONS, &Job::silent()).unwrap();
    assert_eq!((fetched.resumed, fetched.transferred), (2_000_000, 3_000_000));
    assert!(fs::read(&target).unwrap() == content);
}

#[test]
fn what_is_not_what_the_index_says_gets_no_name() {
    let content = bytes(300_000);
    let item = item("quay/x64", "q.iso", &content);
    let dir = tempfile::tempdir().unwrap();
    let target = dir.path().join("q.iso");
    let mut changed = content.clone();
    changed[150_000] ^= 1;
    let mut longer = content;
    longer.push(0);
    for (what, served) in [("another byte", changed), ("a byte more", longer)] {
        let url = breaking(served, vec![usize::MAX; 4]);
        let depot = Depot::at(&url, Path::new("")).unwrap();
        let error = depot.fetch(&item, &target, OPTIONS, &Job::silent()).unwrap_err();
        assert_eq!(error.class(), Class::Corrupt, "{what}: {error}");
        assert!(!target.exists(), "{what}");
    }
    for location in ["https://depot.example", "ftp://depot.example"] {
        assert!(Depot::at(location, Path::new("")).is_err(), "{location}");
    }
}

#[test]
fn signatures_hold_for_one_content_and_one_key() {
    let (public, secret) = new_keys().unwrap();
    let key = Key::parse(public.lines().nth(1).unwrap()).unwrap();
    assert_eq!(Key::parse(&key.to_string()).unwrap(), key);
    let (other_public, other_secret) = new_keys().unwrap();
    assert_ne!(Key::parse(other_public.lines().nth(1).unwrap()).unwrap(), key);
    let (dir, _) = folder(&bytes(1000));
    let index = dir.path().join(INDEX_NAME);
    let put = |secret: &str| {
        let content = Content::from_path(&index).unwrap();
        fs::write(signature_path(&index), sign(secret, &content, INDEX_NAME, &Job::silent()).unwrap())
            .unwrap();
    };
    let error = check_file(&key, &index).unwrap_err();
    assert!(error.to_string().contains("no signature"), "{error}");
    put(&secret);
    check_file(&key, &index).unwrap();
    // The same key in the address of a folder, and of a server.
    let address = format!("{}#key={key}", dir.path().display());
    Depot::at(&address, Path::new("")).unwrap().index(OPTIONS.patience).unwrap();
    {
        let served = Served::start(dir.path());
        let signed = Depot::at(&format!("{}#key={key}", served.url), Path::new("")).unwrap();
        assert_eq!(signed.index(OPTIONS.patience).unwrap().items.len(), 1);
    }
    put(&other_secret);
    let error = Depot::at(&address, Path::new("")).unwrap().index(OPTIONS.patience).unwrap_err();
    assert!(error.to_string().contains("another key"), "{error}");
    put(&secret);
    let text = fs::read_to_string(&index).unwrap();
    fs::write(&index, text.replace("Store", "Stove")).unwrap();
    let error = check_file(&key, &index).unwrap_err();
    assert!(error.class() == Class::Corrupt && error.to_string().contains("something else"), "{error}");
    for broken in ["", "untrusted comment: x\n", "no signature at all"] {
        fs::write(signature_path(&index), broken).unwrap();
        assert!(check_file(&key, &index).unwrap_err().to_string().contains("no signature"), "{broken:?}");
    }
    for word in ["", "x", "RWQ", &key.to_string()[1..]] {
        assert!(Key::parse(word).is_err(), "{word:?}");
    }
    assert!(sign("not a key", &Content::default(), "x", &Job::silent()).is_err());
}

#[test]
fn an_index_that_cannot_be_is_refused_with_what_is_wrong() {
    let (dir, _) = folder(b"x");
    let path = dir.path().join(INDEX_NAME);
    let good = fs::read_to_string(&path).unwrap();
    for (from, to, wanted) in [
        ("\"format\": 1", "\"format\": 9", "format 9"),
        ("\"quay/x64\"", "\"quay//x64\"", "the id"),
        ("media/quay 7.iso", "media/../../x", "the path"),
        ("\"kind\": \"media\"", "\"kind\": \"game\"", "game"),
        ("\"size\"", "\"lenght\"", "lenght"),
    ] {
        let text = good.replace(from, to);
        assert_ne!(text, good, "{from}");
        fs::write(&path, text).unwrap();
        let depot = Depot::at(&dir.path().display().to_string(), Path::new("")).unwrap();
        let error = depot.index(OPTIONS.patience).unwrap_err();
        assert!(error.class() == Class::Corrupt && error.to_string().contains(wanted), "{to}: {error}");
        assert!(Server::bind(dir.path(), LOOPBACK, 0).is_err());
    }
    fs::remove_file(&path).unwrap();
    let depot = Depot::at(&dir.path().display().to_string(), Path::new("")).unwrap();
    assert_eq!(depot.index(OPTIONS.patience).unwrap_err().class(), Class::BadRequest);
}

#[test]
fn what_is_asked_for_is_found_by_its_parts_and_the_newest_wins() {
    let mut items = Vec::new();
    for (id, version, date) in [
        ("quay-os-7/x64/en-gb", "7.0.1", "2026-01-01"),
        ("quay-os-7/x64/en-gb", "7.0.10", "2026-03-01"),
        ("quay-os-7/x64/en-gb", "7.0.9", "2026-02-01"),
        ("quay-os-7/arm64/en-gb", "7.0.1", "2026-01-01"),
        ("tide-tables", "2", "2026-01-01"),
    ] {
        let file = format!("{}-{version}.iso", id.replace('/', "-"));
        items.push(Item {
            version: version.into(),
            date: date.into(),
            ..item(id, &file, version.as_bytes())
        });
    }
    let index = Index { format: Index::FORMAT, title: String::new(), items };
    let find = |text: &str| index.find(&Reference::parse(text).unwrap());
    for (asked, version) in [
        ("depot:quay-os-7/x64/en-gb", "7.0.10"),
        ("depot:quay-os-7/x64", "7.0.10"),
        ("depot:quay-os-7/x64@7.0.9", "7.0.9"),
        ("depot:quay-os-7/arm64", "7.0.1"),
        ("depot:tide-tables", "2"),
    ] {
        assert_eq!(find(asked).unwrap().version, version, "{asked}");
    }
    for (asked, word) in [
        ("depot:quay-os-7", "quay-os-7/arm64/en-gb or quay-os-7/x64/en-gb"),
        ("depot:quay-os-8", "did you mean quay-os-7/"),
        ("depot:quay-os-7/mips", "it has quay-os-7/"),
        ("depot:quay-os-7/x64@8", "it has quay-os-7/"),
        ("depot:engine-room", ""),
    ] {
        let error = find(asked).unwrap_err();
        let said = format!("{error} {}", error.hint());
        assert!(said.contains(word), "{asked}: {said}");
        assert_eq!(error.class(), Class::BadRequest, "{asked}");
    }
}
