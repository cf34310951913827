//! Pages: what is on them, that nothing leaves them, and how a browser takes them.
#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::items_after_statements,
    missing_docs,
    reason = "tests say what they expect by failing"
)]

mod support;

use std::{collections::BTreeSet, fs, path::Path, process::Command};
use support::{demo, fails, json, ok};

/// What a second look at a page finds: its elements are closed, its links lead somewhere inside, nothing is fetched.
fn examined(html: &str) -> BTreeSet<String> {
    let (mut open, mut ids, mut links) = (Vec::new(), BTreeSet::new(), BTreeSet::new());
    let mut rest = html;
    while let Some(start) = rest.find('<') {
        rest = &rest[start + 1..];
        let end = rest.find('>').unwrap();
        let tag = &rest[..end];
        rest = &rest[end + 1..];
        let name = tag.split([' ', '\n']).next().unwrap().trim_start_matches('/').to_owned();
        for (key, found) in [("id=\"", &mut ids), ("href=\"", &mut links)] {
            if let Some((_, value)) = tag.split_once(key) {
                found.insert(value.split('"').next().unwrap().to_owned());
            }
        }
        if let Some((_, source)) = tag.split_once("src=\"") {
            assert!(source.starts_with("data:image/png;base64,"), "{source:.60}");
        }
        if tag.starts_with('/') {
            assert_eq!(open.pop().as_deref(), Some(name.as_str()), "{tag}");
        } else if !matches!(name.as_str(), "!DOCTYPE" | "meta" | "img") {
            if matches!(name.as_str(), "style" | "script") {
                rest = &rest[rest.find(&format!("</{name}>")).unwrap()..];
            }
            open.push(name);
        }
    }
    assert!(open.is_empty(), "{open:?}");
    for link in links {
        let target = link.strip_prefix('#').unwrap_or_else(|| panic!("{link} leads outside"));
        assert!(ids.contains(target), "{link}");
    }
    for address in ["http:", "https:", "@import", "url("] {
        assert!(!html.contains(address), "{address}");
    }
    ids
}

fn page(dir: &Path, of: &str) -> String {
    ok(dir, &["report", of, "-o", "page.html", "--replace"]);
    fs::read_to_string(dir.join("page.html")).unwrap()
}

/// The sizes that the table below a map gives for its areas.
fn areas(html: &str, map: usize) -> Vec<u64> {
    let row = format!("<tr id=\"m{map}-");
    let rows = html.split(&row).skip(1);
    rows.map(|row| {
        let value = row.split("data-value=\"").nth(1).unwrap();
        value.split('"').next().unwrap().parse().unwrap()
    })
    .collect()
}

#[test]
fn a_page_shows_a_build_a_plan_and_a_media() {
    let (_keep, dir) = demo();
    ok(&dir, &["build", "bridge.stack.toml", "--digest", "-q"]);
    let ledger: serde_json::Value =
        serde_json::from_str(&fs::read_to_string(dir.join("out/bridge.ledger.json")).unwrap()).unwrap();
    let html = page(&dir, "out/bridge.ledger.json");
    examined(&html);
    assert!(html.contains(ledger["outputs"][0]["sha256"].as_str().unwrap()));
    assert!(html.contains(ledger["stack_sha256"].as_str().unwrap()));
    let items = ledger["items"].as_array().unwrap();
    assert!(items.len() > 30);
    for item in items {
        let subject = item["subject"].as_str().unwrap().replace('&', "&amp;").replace('"', "&quot;");
        assert!(html.contains(&subject), "{subject}");
        // Sizes on the page are those of the ledger.
        let bytes = item["bytes"].as_i64().unwrap();
        assert!(bytes == 0 || html.contains(&format!("data-value=\"{bytes}\"")), "{item}");
    }
    // Dangers come before everything else.
    assert!(html.find("erases everything on disk 0").unwrap() < html.find("<main>").unwrap());

    // A stack file elsewhere finds its source as a build does.
    let above = dir.parent().unwrap();
    let name = dir.file_name().unwrap().to_str().unwrap();
    ok(above, &["report", &format!("{name}/bridge.stack.toml"), "-o", &format!("{name}/above.html")]);
    assert!(fs::read_to_string(dir.join("above.html")).unwrap().contains("m1-1"));

    let plan = page(&dir, "bridge.stack.toml");
    let ids = examined(&plan);
    assert!(
        ids.contains("m1-1")
            && plan.contains("none of these packs")
            && plan.contains("foghorn-mix.dll is missing")
    );

    let html = page(&dir, "quay-os-7.iso");
    examined(&html);
    let editions = json(&dir, &["look", "quay-os-7.iso", "--json"])["image_files"][0]["editions"].clone();
    for (n, edition) in editions.as_array().unwrap().iter().enumerate() {
        // By category and by folder, each map shows all of the edition.
        let bytes = edition["bytes"].as_u64().unwrap();
        for map in [2 * n + 1, 2 * n + 2] {
            assert_eq!(areas(&html, map).iter().sum::<u64>(), bytes, "{map}: {edition}");
        }
    }
}

#[test]
fn answers_are_told_in_words() {
    let (_keep, dir) = demo();
    ok(&dir, &["build", "bridge.stack.toml", "-q"]);
    let plan = json(&dir, &["plan", "bridge.stack.toml", "--json"]);
    let ledger: serde_json::Value =
        serde_json::from_str(&fs::read_to_string(dir.join("out/bridge.ledger.json")).unwrap()).unwrap();
    assert_eq!(plan["answers"], ledger["answers"]);
    let does = plan["answers"][0]["does"].as_array().unwrap();
    assert!(does.len() > 3, "{does:?}");
    // The page of the plan, that of the ledger and the text on the media say the same.
    ok(&dir, &["take", "out/bridge.iso", "neatstack/what-this-does.txt", "--to", "."]);
    let notice = fs::read_to_string(dir.join("what-this-does.txt")).unwrap();
    let pages = ["out/bridge.ledger.json", "bridge.stack.toml"].map(|of| page(&dir, of));
    for line in does.iter().map(|line| line.as_str().unwrap()) {
        assert!(notice.contains(line), "{line}: {notice}");
        for html in &pages {
            examined(html);
            assert!(html.contains(&format!("<li>{}</li>", line.replace('"', "&quot;"))), "{line}");
        }
    }
}

#[test]
fn pages_are_refused_and_replaced_like_every_output() {
    let (_keep, dir) = demo();
    ok(&dir, &["report", "quay-os-7.iso", "-o", "p.html", "--edition", "2"]);
    let one = fs::read_to_string(dir.join("p.html")).unwrap();
    assert!(areas(&one, 1).len() > 3 && areas(&one, 3).is_empty(), "one edition has two maps");
    assert_eq!(fails(&dir, &["report", "quay-os-7.iso", "-o", "p.html"]).0, 4);
    let view = json(&dir, &["report", "quay-os-7.iso", "-o", "p.html", "--replace", "--json"]);
    assert_eq!(view["size"].as_u64().unwrap(), fs::metadata(dir.join("p.html")).unwrap().len());
    assert_eq!(fails(&dir, &["report", "quay-os-7.iso", "-o", "q.html", "--edition", "9"]).0, 2);
    assert_eq!(fails(&dir, &["report", "missing.iso", "-o", "q.html"]).0, 2);
    assert!(!dir.join("q.html").exists());
}

#[test]
fn text_from_outside_is_text_on_a_page() {
    let (_keep, dir) = demo();
    ok(&dir, &["build", "fleet.stack.toml", "--only", "KIOSK-01", "-q"]);
    let path = dir.join("out/KIOSK-01.ledger.json");
    let text = fs::read_to_string(&path).unwrap();
    let mut ledger: serde_json::Value = serde_json::from_str(&text).unwrap();
    let hostile = "</title><script>alert(1)</script><img src=x onerror=alert(1)>\"'&";
    ledger["title"] = hostile.into();
    ledger["steps"] = serde_json::json!([hostile]);
    ledger["outputs"][0]["path"] = hostile.into();
    ledger["trials"] = serde_json::json!([{
        "path": hostile, "attached": "disc", "firmware": "bios", "stage": "installs", "evidence": hostile,
        "picture": "../../../etc/passwd"
    }]);
    fs::write(&path, ledger.to_string()).unwrap();
    let html = page(&dir, "out/KIOSK-01.ledger.json");
    examined(&html);
    assert_eq!(html.matches("<script>").count(), 1);
    assert!(
        !html.contains("<img"),
        "neither the hostile one nor a file that is no picture beside the ledger"
    );
    assert!(html.contains("&lt;/title&gt;"));
}

/// Opens a page of `dir` in a browser: what its console said, the addresses that were asked for, and a picture.
fn opened(dir: &Path, name: &str, size: &str) -> (String, Vec<String>, Vec<u8>) {
    let log = dir.join("net.json");
    let output = Command::new("chromium")
        .args([
            "--headless=new",
            "--no-sandbox",
            "--disable-gpu",
            "--enable-logging=stderr",
            "--no-first-run",
        ])
        .args(["--disable-background-networking", "--disable-component-update", "--disable-sync"])
        .arg(format!("--user-data-dir={}", dir.join("profile").display()))
        .arg(format!("--window-size={size}"))
        .arg(format!("--log-net-log={}", log.display()))
        .arg(format!("--screenshot={}", dir.join("page.png").display()))
        .arg(format!("file://{}", dir.join(name).display()))
        .output()
        .unwrap();
    let said = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(output.status.success(), "{said}");
    let console = said.lines().filter(|line| line.contains(":CONSOLE")).collect::<Vec<_>>().join("\n");
    let log = fs::read_to_string(&log).unwrap();
    // The browser asks for news of its own too; what a page asks for has the page's site.
    let of_page = log.lines().filter(|line| line.contains("{site=file://"));
    let urls = of_page.filter_map(|line| line.split("\"url\":\"").nth(1)?.split('"').next());
    let asked = urls.filter(|url| url.starts_with("http")).map(str::to_owned).collect();
    (console, asked, fs::read(dir.join("page.png")).unwrap())
}

#[test]
#[ignore = "needs a browser"]
fn a_browser_shows_pages_and_fetches_nothing() {
    if !neat_testing::has_program("chromium", "--version") {
        return;
    }
    let (_keep, dir) = demo();
    // What is looked for would be found.
    let control = "<img src=\"http://127.0.0.1:9/x.png\"><script>console.error('told')</script>";
    fs::write(dir.join("control.html"), control).unwrap();
    let (console, asked, _) = opened(&dir, "control.html", "800,600");
    assert!(console.contains("told"), "{console}");
    assert!(asked.iter().any(|url| url.starts_with("http://127.0.0.1:9/")), "{asked:?}");
    ok(&dir, &["build", "bridge.stack.toml", "-q"]);
    for (of, size) in [
        ("out/bridge.ledger.json", "1280,800"),
        ("bridge.stack.toml", "500,800"),
        ("quay-os-7.iso", "1280,800"),
    ] {
        page(&dir, of);
        let (console, asked, picture) = opened(&dir, "page.html", size);
        assert_eq!(console, "", "{of}");
        assert_eq!(asked, Vec::<String>::new(), "{of}");
        assert!(picture.starts_with(b"\x89PNG") && picture.len() > 10_000, "{of}: {} bytes", picture.len());
    }
}

#[test]
fn a_page_shows_what_differs_and_every_machine_has_its_own() {
    let (_keep, dir) = demo();
    ok(&dir, &["build", "bridge.stack.toml", "-q"]);
    let view = json(&dir, &["compare", "quay-os-7.iso", "out/bridge.iso", "--json"]);
    ok(&dir, &["compare", "quay-os-7.iso", "out/bridge.iso", "-o", "changes.html"]);
    let html = fs::read_to_string(dir.join("changes.html")).unwrap();
    examined(&html);
    let edition = &view["editions"][0];
    for text in ["Quay OS 7 Kiosk", edition["gone"][0].as_str().unwrap(), "What differs", "SupportPhone"] {
        assert!(html.contains(text), "{text}");
    }
    // A row for each file that differs.
    let files = view["files"].as_array().unwrap().iter().chain(edition["files"].as_array().unwrap());
    for file in files {
        assert!(html.contains(&format!("<td>{}</td>", file["path"].as_str().unwrap())), "{file}");
    }
    assert_eq!(fails(&dir, &["compare", "quay-os-7.iso", "out/bridge.iso", "-o", "changes.html"]).0, 4);
    let ledger = "out/bridge.ledger.json";
    ok(&dir, &["compare", ledger, ledger, "-o", "builds.html"]);
    assert!(fs::read_to_string(dir.join("builds.html")).unwrap().contains("the same items"));

    let html = page(&dir, "fleet.stack.toml");
    let ids = examined(&html);
    for (row, machine) in [(2, "KIOSK-01"), (3, "KIOSK-02"), (4, "KIOSK-03")] {
        assert!(ids.contains(&format!("machine-{row}")), "{ids:?}");
        assert!(html.contains(&format!("<a href=\"#machine-{row}\">{machine}</a>")), "{machine}");
        assert!(html.contains(&format!("neatstack build fleet.stack.toml --only {machine}")));
    }
}
