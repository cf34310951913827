//! `depot`, driven as the built program on the demo data, against its own server and against bad ones.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::items_after_statements,
    clippy::semicolon_if_nothing_returned,
    missing_docs,
    reason = "a test that cannot go on has failed"
)]

mod support;

use std::{
    fs,
    io::{BufRead, BufReader, Read, Write},
    net::{TcpListener, TcpStream},
    path::{Path, PathBuf},
    process::{Child, Command, Stdio},
    sync::{
        Arc, Mutex,
        atomic::{AtomicUsize, Ordering},
    },
    time::Duration,
};
use support::{demo, fails, json, names, neatstack, ok, refused};

const ID: &str = "quay-os-7/x64/en-GB";

/// The demo data as a depot.
fn store() -> (tempfile::TempDir, PathBuf) {
    let (dir, path) = demo();
    fs::create_dir(path.join("store")).unwrap();
    fs::rename(path.join("quay-os-7.iso"), path.join("store/quay os 7.iso")).unwrap();
    fs::rename(path.join("updates"), path.join("store/updates")).unwrap();
    ok(&path, &["depot", "index", "store", "--title", "Brackwater Ferries"]);
    (dir, path)
}

/// The program serving a depot; ended when dropped.
struct Served {
    child: Child,
    url: String,
    /// Where answers are given out.
    answers: Option<String>,
}

impl Served {
    fn start(dir: &Path) -> Self {
        Self::with(dir, &[])
    }

    fn with(dir: &Path, more: &[&str]) -> Self {
        let mut child = Command::new(env!("CARGO_BIN_EXE_neatstack"))
            .args(["depot", "serve", "store", "--port", "0", "--json"])
            .args(more)
            .current_dir(dir)
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let mut text = String::new();
        let mut lines = BufReader::new(child.stdout.take().unwrap());
        while !text.trim_end().ends_with('}') {
            assert!(lines.read_line(&mut text).unwrap() > 0, "{text}");
        }
        let said: serde_json::Value = serde_json::from_str(&text).unwrap();
        support::documents::validate("depot-serve", &said, &["depot", "serve"]);
        let text = |key: &str| said[key].as_str().map(str::to_owned);
        Self { child, url: text("url").unwrap(), answers: text("answers") }
    }
}

impl Drop for Served {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// A server that answers as it is told: the path and the first byte that is wanted go in, and what it does with the
/// connection is its own affair.
struct Bad {
    url: String,
    /// What was asked for, as `path first-byte`.
    asked: Arc<Mutex<Vec<String>>>,
}

impl Bad {
    fn start(answer: impl Fn(&mut TcpStream, &str, u64, usize) + Send + Sync + 'static) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let url = format!("http://{}", listener.local_addr().unwrap());
        let asked = Arc::new(Mutex::new(Vec::new()));
        let (log, number) = (Arc::clone(&asked), AtomicUsize::new(0));
        std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                let mut stream = stream;
                let mut reader = BufReader::new(stream.try_clone().unwrap());
                let mut path = String::new();
                let mut first = 0;
                loop {
                    let mut line = String::new();
                    if reader.read_line(&mut line).unwrap_or(0) == 0 || line.trim().is_empty() {
                        break;
                    }
                    if path.is_empty() {
                        line.split(' ').nth(1).unwrap_or_default().clone_into(&mut path);
                    }
                    if let Some(range) = line.to_lowercase().strip_prefix("range: bytes=") {
                        first = range.trim().trim_end_matches('-').parse().unwrap();
                    }
                }
                log.lock().unwrap().push(format!("{path} {first}"));
                answer(&mut stream, &path, first, number.fetch_add(1, Ordering::Relaxed));
            }
        });
        Self { url, asked }
    }
}

fn send(stream: &mut TcpStream, status: &str, headers: &str, body: &[u8]) {
    let head = format!("HTTP/1.1 {status}\r\nConnection: close\r\n{headers}\r\n");
    let _ = stream.write_all(head.as_bytes()).and_then(|()| stream.write_all(body));
}

/// An answer with the right index, and for the file what `file` does.
fn bad_depot(dir: &Path, file: impl Fn(&mut TcpStream, &[u8], u64, usize) + Send + Sync + 'static) -> Bad {
    let index = fs::read(dir.join("store/depot.json")).unwrap();
    let bytes = fs::read(dir.join("store/quay os 7.iso")).unwrap();
    Bad::start(move |stream, path, first, number| {
        if path == "/depot.json" {
            send(stream, "200 OK", &format!("Content-Length: {}\r\n", index.len()), &index);
        } else {
            file(stream, &bytes, first, number);
        }
    })
}

fn fetch(url: &str) -> [&str; 9] {
    ["depot", "fetch", ID, "-o", "got.iso", "--depot", url, "--patience", "2"]
}

/// Names in the folder that a fetch left: the file, and what is kept of an unfinished one.
fn left(dir: &Path) -> Vec<String> {
    names(dir).into_iter().filter(|name| name.contains("got.iso")).collect()
}

#[test]
fn a_depot_is_described_served_searched_and_fetched_from() {
    let (_dir, dir) = store();
    let index = json(&dir, &["depot", "index", "store", "--json"]);
    let items = index["items"].as_array().unwrap();
    let media = items.iter().find(|item| item["kind"] == "media").unwrap();
    assert_eq!((media["id"].as_str(), media["file"].as_str()), (Some(ID), Some("quay os 7.iso")));
    assert_eq!(media["editions"].as_array().unwrap().len(), 3);
    assert!(items.iter().filter(|item| item["kind"] == "update").count() >= 3);

    assert_eq!(json(&dir, &["look", "store/depot.json", "--json"])["kind"], "depot");

    let served = Served::start(&dir);
    let search = |words: &[&str]| {
        let args = [&["depot", "search", "--json", "--depot", &served.url], words].concat();
        json(&dir, &args)["items"].as_array().unwrap().len()
    };
    assert_eq!(search(&["QUAY", "bridge"]), 1);
    assert_eq!(search(&["--kind", "update"]), items.len() - 1);
    assert_eq!(search(&["no such thing"]), 0);
    let text = ok(&dir, &["depot", "search", "quay", "--depot", &served.url]);
    assert!(text.contains("Brackwater Ferries") && text.contains(ID), "{text}");

    let got = json(&dir, &["depot", "fetch", ID, "--to", "here", "--depot", &served.url, "--json"]);
    let path = dir.join("here/quay os 7.iso");
    assert!(fs::read(&path).unwrap() == fs::read(dir.join("store/quay os 7.iso")).unwrap());
    assert_eq!(got["transferred"], fs::metadata(&path).unwrap().len());
    // What is there already is not fetched again; what is there and is another file is not overwritten.
    let again = json(&dir, &["depot", "fetch", ID, "--to", "here", "--depot", &served.url, "--json"]);
    assert_eq!(again["transferred"], 0);
    fs::write(&path, "something else").unwrap();
    let args = ["depot", "fetch", ID, "--to", "here", "--depot", &served.url];
    assert_eq!(fails(&dir, &args).0, 4);
    ok(&dir, &[&args[..], &["--replace"]].concat());
    let (code, error) = fails(&dir, &["depot", "fetch", "quay-os-9", "--depot", &served.url]);
    assert_eq!((code, error.contains("no quay-os-9")), (2, true), "{error}");

    // Beside the index's own files nothing can be had.
    let ask = |path: &str| {
        let mut stream = TcpStream::connect(served.url.trim_start_matches("http://")).unwrap();
        write!(stream, "GET {path} HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n").unwrap();
        let mut answer = Vec::new();
        stream.read_to_end(&mut answer).unwrap();
        String::from_utf8_lossy(&answer[..12]).into_owned()
    };
    for path in ["/../bridge.stack.toml", "/%2e%2e/bridge.stack.toml", "/", "/store", "/..%2fsite.reg"] {
        assert_eq!(ask(path), "HTTP/1.1 404", "{path}");
    }
    assert_eq!(ask("/quay%20os%207.iso"), "HTTP/1.1 200");
    // A file that is no longer the one of the index is not given out.
    fs::write(dir.join("store/quay os 7.iso"), "short").unwrap();
    assert_eq!(ask("/quay%20os%207.iso"), "HTTP/1.1 410");
}

#[test]
fn what_breaks_off_is_gone_on_with() {
    let (_dir, dir) = store();
    // Every connection brings 300,000 bytes and breaks off, as if the length were a lie.
    let bad = bad_depot(&dir, |stream, bytes, first, _| {
        let total = bytes.len();
        let part = &bytes[first as usize..(first as usize + 300_000).min(total)];
        let left = total - first as usize;
        if first == 0 {
            send(stream, "200 OK", &format!("Content-Length: {total}\r\n"), part);
        } else {
            let range =
                format!("Content-Length: {left}\r\nContent-Range: bytes {first}-{}/{total}\r\n", total - 1);
            send(stream, "206 Partial Content", &range, part);
        }
    });
    let got = json(&dir, &[&fetch(&bad.url)[..], &["--json"]].concat());
    assert!(got["interruptions"].as_u64().unwrap() >= 5, "{got}");
    assert!(fs::read(dir.join("got.iso")).unwrap() == fs::read(dir.join("store/quay os 7.iso")).unwrap());
    assert_eq!(left(&dir), ["got.iso"]);
    let asked = bad.asked.lock().unwrap().clone();
    assert!(asked.iter().any(|asked| asked.ends_with(" 300000")), "{asked:?}");
}

#[test]
fn a_later_run_goes_on_where_an_earlier_one_stopped() {
    let (_dir, dir) = store();
    // Gives the first 200,000 bytes once and then nothing any more.
    let bad = bad_depot(&dir, |stream, bytes, first, _| {
        if first == 0 {
            send(stream, "200 OK", &format!("Content-Length: {}\r\n", bytes.len()), &bytes[..200_000]);
        } else {
            send(stream, "503 Service Unavailable", "Content-Length: 0\r\n", b"");
        }
    });
    let (code, error) = fails(&dir, &fetch(&bad.url));
    assert_eq!(
        (code, error.contains("goes on from there"), error.contains("503")),
        (1, true, true),
        "{error}"
    );
    assert!(left(&dir).len() == 1 && left(&dir)[0].starts_with(".got.iso.fetch-"), "{:?}", left(&dir));
    let served = Served::start(&dir);
    let got = json(&dir, &[&fetch(&served.url)[..], &["--json"]].concat());
    assert_eq!(got["resumed"], 200_000);
    assert!(fs::read(dir.join("got.iso")).unwrap() == fs::read(dir.join("store/quay os 7.iso")).unwrap());
    // What was kept and is damaged ends in a wrong digest, and the run after that begins anew.
    fs::remove_file(dir.join("got.iso")).unwrap();
    fails(&dir, &fetch(&bad.url));
    let kept = dir.join(&left(&dir)[0]);
    let mut bytes = fs::read(&kept).unwrap();
    bytes[1000] ^= 1;
    fs::write(&kept, bytes).unwrap();
    let (code, error) = fails(&dir, &fetch(&served.url));
    assert_eq!((code, error.contains("BLAKE3")), (3, true), "{error}");
    assert!(left(&dir).is_empty(), "{:?}", left(&dir));
    ok(&dir, &fetch(&served.url));
}

#[test]
fn lies_are_refused_and_nothing_stays_under_the_name() {
    let (_dir, dir) = store();
    type Answer = fn(&mut TcpStream, &[u8], u64, usize);
    let whole = |stream: &mut TcpStream, bytes: &[u8]| {
        send(stream, "200 OK", &format!("Content-Length: {}\r\n", bytes.len()), bytes)
    };
    let cases: [(&str, Answer, &str); 6] = [
        (
            "a shorter file",
            |s, b, _, _| send(s, "200 OK", "Content-Length: 1000\r\n", &b[..1000]),
            "1000 bytes offered",
        ),
        (
            "a longer one",
            |s, b, _, _| send(s, "200 OK", "Content-Length: 99999999\r\n", b),
            "99999999 bytes offered",
        ),
        ("more than promised", |s, b, _, _| send(s, "200 OK", "", &[b, &vec![0; 100_000]].concat()), "more"),
        ("another file", |_, _, _, _| {}, "BLAKE3"),
        ("not there", |s, _, _, _| send(s, "404 Not Found", "Content-Length: 0\r\n", b""), "404"),
        ("not allowed", |s, _, _, _| send(s, "403 Forbidden", "Content-Length: 0\r\n", b""), "403"),
    ];
    for (name, answer, wanted) in cases {
        let bad = bad_depot(&dir, move |stream, bytes, first, number| {
            if name == "another file" {
                let mut changed = bytes.to_vec();
                changed[500_000] ^= 0x40;
                whole(stream, &changed);
            } else {
                answer(stream, bytes, first, number);
            }
        });
        let (code, error) = fails(&dir, &fetch(&bad.url));
        assert!(code == 3 && error.contains(wanted), "{name}: {code} {error}");
        assert!(left(&dir).is_empty(), "{name}: {:?}", left(&dir));
    }
    // A wrong range: bytes from elsewhere would be stitched in.
    let bad = bad_depot(&dir, |stream, bytes, first, _| {
        let total = bytes.len();
        if first == 0 {
            send(stream, "200 OK", &format!("Content-Length: {total}\r\n"), &bytes[..200_000]);
        } else {
            let range = format!("Content-Length: 10\r\nContent-Range: bytes 5-14/{total}\r\n");
            send(stream, "206 Partial Content", &range, &bytes[5..15]);
        }
    });
    let (code, error) = fails(&dir, &fetch(&bad.url));
    assert!(code == 3 && error.contains("bytes 5-14"), "{error}");
    assert!(left(&dir).is_empty());
}

#[test]
fn circles_silence_and_slowness_end() {
    let (_dir, dir) = store();
    let bad = bad_depot(&dir, |stream, _, _, number| {
        send(stream, "302 Found", &format!("Location: /round/{number}\r\nContent-Length: 0\r\n"), b"");
    });
    let (code, error) = fails(&dir, &fetch(&bad.url));
    assert!(code == 3 && error.contains("redirections"), "{code} {error}");
    assert!(bad.asked.lock().unwrap().len() < 12);

    // Says nothing at all.
    let bad = bad_depot(&dir, |_, _, _, _| std::thread::sleep(Duration::from_secs(3)));
    let args = ["depot", "fetch", ID, "-o", "got.iso", "--depot", &bad.url, "--patience", "1"];
    let (code, error) = fails(&dir, &args);
    assert!(code == 1 && error.contains("attempts"), "{code} {error}");
    assert!(!dir.join("got.iso").exists());

    // Nobody is there.
    let nobody = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
    let (code, error) = fails(&dir, &fetch(&format!("http://{nobody}")));
    assert!(code == 1 && error.contains("depot serve"), "{code} {error}");
    // Something else is there.
    let other = Bad::start(|stream, _, _, _| send(stream, "200 OK", "Content-Length: 5\r\n", b"hello"));
    let (code, error) = fails(&dir, &fetch(&other.url));
    assert!(code == 3 && error.contains("index of a depot"), "{code} {error}");
    let (code, _) = fails(&dir, &["depot", "search", "--depot", "https://depot.example"]);
    assert_eq!(code, 2);
    let (code, error) = fails(&dir, &["depot", "serve", "updates-that-are-not-there"]);
    assert!(code == 2 && error.contains("depot index"), "{code} {error}");
}

#[test]
fn an_index_that_leads_out_of_the_depot_is_refused() {
    let (_dir, dir) = store();
    let path = dir.join("store/depot.json");
    let text = fs::read_to_string(&path).unwrap();
    fs::write(&path, text.replace("\"quay os 7.iso\"", "\"../bridge.stack.toml\"")).unwrap();
    let (code, error) = fails(&dir, &["depot", "search", "--depot", "store"]);
    assert!(code == 3 && error.contains("the path"), "{code} {error}");
    assert_eq!(fails(&dir, &["depot", "serve", "store", "--port", "0"]).0, 3);
}

#[test]
fn a_stack_file_takes_media_and_updates_from_a_depot() {
    let (_dir, dir) = store();
    let served = Served::start(&dir);
    let stack = |depot: &str| {
        format!(
            "title = \"From afar\"\n{depot}[source]\nmedia = \"depot:quay-os-7/x64\"\neditions = [\"Quay OS 7 Bridge\"]\n\
             [[update]]\nfrom = \"depot:ID\"\n[media]\nlabel = \"AFAR\"\niso = \"out/afar.iso\"\n"
        )
    };
    let index = json(
        &dir,
        &["depot", "search", "--depot", "store", "--kind", "update", "--architecture", "x64", "--json"],
    );
    let update = index["items"]
        .as_array()
        .unwrap()
        .iter()
        .find(|item| item["id"].as_str().unwrap().contains("servicing"))
        .unwrap();
    let id = update["id"].as_str().unwrap();
    let text = stack(&format!("depot = \"{}\"\n", served.url)).replace("ID", id);
    fs::write(dir.join("afar.stack.toml"), &text).unwrap();
    let run = |args: &[&str]| {
        let mut command = Command::new(env!("CARGO_BIN_EXE_neatstack"));
        command.current_dir(&dir).args(args).env("NEATSTACK_CACHE", dir.join("cache")).env("NO_COLOR", "1");
        command.output().unwrap()
    };
    let out = |args: &[&str]| {
        let output = run(args);
        assert!(output.status.success(), "{args:?}: {}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8(output.stdout).unwrap()
    };
    // The plan fetches nothing unless told to, and says what it would fetch.
    let text = out(&["plan", "afar.stack.toml"]);
    assert!(text.contains("to be fetched") && text.contains(ID), "{text}");
    assert!(!dir.join("cache").exists());
    let waiting: serde_json::Value =
        serde_json::from_str(&out(&["plan", "afar.stack.toml", "--json"])).unwrap();
    assert_eq!((&waiting["complete"], &waiting["depot"][0]["state"]), (&false.into(), &"to-fetch".into()));
    let output = run(&["pick", "afar.stack.toml", "--remove", "app/card-games"]);
    let said = String::from_utf8_lossy(&output.stderr);
    assert!(output.status.code() == Some(2) && said.contains("--fetch"), "{output:?}");
    assert_eq!(run(&["report", "afar.stack.toml", "-o", "afar.html"]).status.code(), Some(2));
    let text = out(&["plan", "afar.stack.toml", "--fetch"]);
    out(&["report", "afar.stack.toml", "-o", "afar.html"]);
    assert!(text.contains("fetched") && text.contains("Steps"), "{text}");
    let ledger: serde_json::Value =
        serde_json::from_str(&out(&["build", "afar.stack.toml", "--json"])).unwrap();
    assert_eq!(ledger["depot"][0]["state"], "kept");
    assert_eq!(ledger["depot"].as_array().unwrap().len(), 2);
    assert!(dir.join("out/afar.iso").is_file());
    // A folder as the depot: used where it lies, after a check.
    fs::write(
        dir.join("near.stack.toml"),
        stack("depot = \"store\"\n").replace("ID", id).replace("afar", "near"),
    )
    .unwrap();
    let text = out(&["plan", "near.stack.toml"]);
    assert!(text.contains("used where it lies"), "{text}");
    // What goes is chosen from what lies there; the stack file goes on naming the depot.
    for stack in ["near.stack.toml", "afar.stack.toml"] {
        out(&["pick", stack, "--remove", "app/card-games"]);
        let chosen = fs::read_to_string(dir.join(stack)).unwrap();
        assert!(chosen.contains("media = \"depot:quay-os-7/x64\""), "{chosen}");
        assert!(chosen.contains("components = [\"app/card-games\"]"), "{chosen}");
        out(&["plan", stack]);
    }
    let mut bytes = fs::read(dir.join("store/quay os 7.iso")).unwrap();
    bytes[100_000] ^= 1;
    fs::write(dir.join("store/quay os 7.iso"), bytes).unwrap();
    let output = run(&["plan", "near.stack.toml"]);
    assert_eq!(output.status.code(), Some(3));
    // No depot at all.
    fs::write(dir.join("none.stack.toml"), stack("").replace("ID", id)).unwrap();
    let output = neatstack(&dir, &["plan", "none.stack.toml"]);
    assert_eq!(output.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&output.stderr).contains("nobody says where that is"));
}

#[test]
fn a_stack_file_that_names_a_key_takes_nothing_else() {
    let (_keep, dir) = demo();
    fs::create_dir(dir.join("store")).unwrap();
    fs::copy(dir.join("quay-os-7.iso"), dir.join("store/quay-os-7.iso")).unwrap();
    fs::copy(dir.join("updates/quay-7-2026-10.update.tar.zst"), dir.join("store/a.update.tar.zst")).unwrap();
    ok(&dir, &["depot", "index", "store", "-q"]);
    let key = json(&dir, &["depot", "key", "brackwater", "--json"])["key"].as_str().unwrap().to_owned();
    let other = json(&dir, &["depot", "key", "other", "--json"])["key"].as_str().unwrap().to_owned();
    assert_eq!(fails(&dir, &["depot", "key", "brackwater"]).0, 4, "keys are not overwritten");
    let mode = fs::metadata(dir.join("brackwater.key")).unwrap();
    assert_eq!(std::os::unix::fs::MetadataExt::mode(&mode) & 0o777, 0o600);
    let id = json(&dir, &["depot", "search", "--depot", "store", "--json"])["items"]
        .as_array()
        .unwrap()
        .iter()
        .find(|item| item["kind"] == "media")
        .unwrap()["id"]
        .as_str()
        .unwrap()
        .to_owned();
    let stack = |key: &str, update: &str| {
        let text = format!(
            "depot = \"store\"\nsigned_by = \"{key}\"\n[source]\nmedia = \"depot:{id}\"\n[[update]]\nfrom = \"{update}\"\n[media]\niso = \"o.iso\"\n"
        );
        fs::write(dir.join("t.stack.toml"), text).unwrap();
    };
    let local = "updates/quay-7-2026-10.update.tar.zst";
    stack(&key, local);
    let (code, error) = fails(&dir, &["plan", "t.stack.toml"]);
    assert!(code == 3 && error.contains("depot.json.minisig is not there"), "{error}");
    ok(&dir, &["depot", "sign", "store", "--key", "brackwater.key", "-q"]);
    let (code, error) = fails(&dir, &["plan", "t.stack.toml"]);
    assert!(code == 3 && error.contains("update.tar.zst.minisig is not there"), "{error}");
    ok(&dir, &["depot", "sign", local, "--key", "brackwater.key"]);
    // Signed, and of use only after another.
    assert!(refused(&dir, &["plan", "t.stack.toml"]).contains("it needs quay-7-servicing"));
    // What the signed index describes needs no signature of its own.
    let update = json(&dir, &["depot", "search", "--depot", "store", "--json"])["items"]
        .as_array()
        .unwrap()
        .iter()
        .find(|item| item["kind"] == "update")
        .unwrap()["id"]
        .as_str()
        .unwrap()
        .to_owned();
    stack(&key, &format!("depot:{update}"));
    refused(&dir, &["plan", "t.stack.toml"]);
    stack(&other, local);
    let (code, error) = fails(&dir, &["plan", "t.stack.toml"]);
    assert!(code == 3 && error.contains("another key"), "{error}");
    stack("nonsense", local);
    assert_eq!(fails(&dir, &["plan", "t.stack.toml"]).0, 2);
    // One changed letter of the index, and one of the package.
    stack(&key, local);
    let index = fs::read_to_string(dir.join("store/depot.json")).unwrap();
    fs::write(dir.join("store/depot.json"), index.replacen("Quay", "Quai", 1)).unwrap();
    let (code, error) = fails(&dir, &["plan", "t.stack.toml"]);
    assert!(code == 3 && error.contains("a signature of something else"), "{error}");
    fs::write(dir.join("store/depot.json"), index).unwrap();
    let (code, error) = fails(&dir, &["depot", "search", "--depot", &format!("store#key={other}")]);
    assert!(code == 3 && error.contains("another key"), "{error}");
    // The same over the network.
    let served = Served::start(&dir);
    let url = &served.url;
    ok(&dir, &["depot", "search", "--depot", &format!("{url}#key={key}")]);
    let (code, error) = fails(&dir, &["depot", "search", "--depot", &format!("{url}#key={other}")]);
    assert!(code == 3 && error.contains("another key"), "{error}");
}

#[test]
fn answers_are_given_out_to_the_machine_that_asks() {
    let (_keep, dir) = store();
    fs::write(dir.join("m.csv"), "name,serial,address\nLAB-1,BF-1,\nLAB-2,BF-2,127.0.0.1\n").unwrap();
    let account =
        "[administrator]\nenabled = false\n[[account]]\nname = \"pupil\"\npassword = { hash = \"$6$a$b\" }\n";
    let model = |more: &str| {
        let text = format!("format = 1\n[machine]\nname = \"{{name}}\"\n{more}");
        fs::write(dir.join("lab.answer.toml"), text).unwrap();
    };
    let get = |url: &str| {
        let agent: ureq::Agent = ureq::Agent::config_builder().http_status_as_error(false).build().into();
        let mut answer = agent.get(url).call().unwrap();
        (answer.status().as_u16(), answer.body_mut().read_to_string().unwrap())
    };
    model("");
    let serve = ["--answers", "lab.answer.toml", "--sites", "m.csv"];
    let served = Served::with(&dir, &serve);
    let answers = served.answers.clone().unwrap();
    assert!(answers.starts_with(&served.url), "{answers}");
    let (status, text) = get(&format!("{answers}BF-1/preseed.cfg"));
    assert!(status == 200 && text.contains("netcfg/hostname string LAB-1"), "{status} {text}");
    // This machine is the one whose address the list has.
    let (status, text) = get(&format!("{answers}ks.cfg"));
    assert!(status == 200 && text.contains("--hostname=LAB-2"), "{status} {text}");
    for path in ["LAB-9/ks.cfg", "LAB-1/passwd", "..%2f..%2fetc/passwd", ""] {
        assert_eq!(get(&format!("{answers}{path}")).0, 404, "{path}");
    }
    // The depot itself is offered as before.
    assert_eq!(get(&format!("{}/depot.json", served.url)).0, 200);
    drop(served);

    model(account);
    let served = Served::with(&dir, &serve);
    let (status, text) = get(&format!("{}LAB-1/ks.cfg", served.answers.as_ref().unwrap()));
    assert!(status == 403 && text.contains("passwords") && !text.contains("$6$"), "{status} {text}");
    drop(served);
    let served = Served::with(&dir, &[serve.as_slice(), &["--secrets"]].concat());
    let (status, text) = get(&format!("{}LAB-1/ks.cfg", served.answers.as_ref().unwrap()));
    assert!(status == 200 && text.contains("$6$a$b"), "{status} {text}");
    drop(served);

    model("[[disk]]\ndevice = \"sda\"\nwipe = true\n");
    let args = ["depot", "serve", "store", "--port", "0", "--answers", "lab.answer.toml", "--sites", "m.csv"];
    let (code, error) = fails(&dir, &args);
    assert!(code == 4 && error.contains("erases everything on sda"), "{error}");
    assert_eq!(fails(&dir, &["depot", "serve", "store", "--port", "0", "--secrets"]).0, 2);
}
