//! Pages of plans and ledgers.

use crate::{
    image::{EditionMap, editions_table},
    model::{Block, Cell, Page, Remark, Section, Weight},
};
use neat_content::counted;
use neat_service::Item;
use neat_stack::{AnswersSummary, EditionWork, Finding, Ledger, LedgerItem, PlanReport, Weight as Heavy};

/// Gives a picture by its path, if it is there.
pub type Pictures<'a> = &'a dyn Fn(&str) -> Option<Vec<u8>>;

/// An item of a plan or of a ledger.
struct Line<'a> {
    edition: &'a str,
    kind: &'a str,
    subject: &'a str,
    verdict: &'a str,
    detail: &'a str,
    bytes: i64,
}

/// The page of a build: what went in, out, was left out and why, and what came of it.
pub fn of_ledger(ledger: &Ledger, name: &str, pictures: Pictures<'_>) -> Page {
    let title = if ledger.title.is_empty() { name } else { &ledger.title };
    let mut page = Page::new(title, "Report of a build");
    page.remarks = if ledger.remarks.is_empty() {
        ledger.findings.iter().map(|text| remark(&Finding::note(text))).collect()
    } else {
        ledger.remarks.iter().map(remark).collect()
    };
    page.remarks.sort_by_key(|remark| remark.weight);
    let mut outputs = Vec::new();
    for own in &ledger.outputs {
        outputs.push(Block::sheet([
            ("media", format!("{} ({})", own.path, crate::size(own.size))),
            ("label", own.label.clone()),
            ("boots", own.boot.join("; ")),
            ("sha256", own.sha256.clone().unwrap_or_default()),
        ]));
    }
    if let Some(source) = &ledger.source {
        let out = ledger.outputs.first().map_or(0, |own| own.size);
        if source.size > 0 && out > 0 {
            outputs.push(Block::Bars {
                caption: "The media before and after".into(),
                bars: vec![("source".into(), source.size), ("result".into(), out)],
            });
        }
    }
    page.add("What came out", outputs);
    add_answers(&mut page, &ledger.answers);
    let lines: Vec<Line<'_>> = ledger.items.iter().map(line_of_ledger).collect();
    add_items(&mut page, &lines);
    add_steps(&mut page, ledger.steps.iter().map(|text| vec![Cell::text(text)]).collect(), &["Step"]);
    let files = ledger.files.iter().map(|own| {
        let bytes = Cell::bytes(i64::try_from(own.size).unwrap_or(i64::MAX));
        vec![Cell::text(&own.path), bytes, Cell::text(&own.sha256)]
    });
    page.add("Files put on the media", [Block::table("", &["Path", "#Size", "SHA-256"], files.collect())]);
    let mut trials = Vec::new();
    for trial in &ledger.trials {
        trials.push(Block::sheet([
            ("media", trial.path.clone()),
            ("started by", trial.firmware.name().to_owned()),
            ("it showed", trial.evidence.clone()),
        ]));
        if let Some(png) = trial.picture.as_deref().and_then(pictures) {
            let alt = format!("Last screen of {} started by {}", trial.path, trial.firmware.name());
            trials.push(Block::Picture { alt, png });
        }
    }
    page.add("Trials", trials);
    let mut rebuild = vec![Block::sheet([
        ("program", ledger.program.clone()),
        (
            "source",
            ledger
                .source
                .as_ref()
                .map(|own| format!("{}, label {}", own.path, own.label))
                .unwrap_or_default(),
        ),
        ("its sha256", ledger.source.as_ref().and_then(|own| own.sha256.clone()).unwrap_or_default()),
        ("stack file's sha256", ledger.stack_sha256.clone()),
    ])];
    rebuild.extend(ledger.depot.iter().map(|own| Block::Text(format!("From a depot: {}", own.title))));
    rebuild.push(Block::Text("The same stack file and inputs give the same bytes:".into()));
    rebuild.push(Block::Command("neatstack build STACK".into()));
    page.add("How to build it again", rebuild);
    page
}

/// The page of a plan, with maps of editions.
pub fn of_plan(report: &PlanReport, name: &str, maps: &[EditionMap]) -> Page {
    let title = if report.title.is_empty() { name } else { &report.title };
    let mut page = Page::new(title, "Report of a plan: nothing is built yet");
    page.remarks = report.findings.iter().map(remark).collect();
    page.remarks.sort_by_key(|remark| remark.weight);
    let mut outputs: Vec<Block> = report
        .outputs
        .iter()
        .map(|own| {
            Block::sheet([
                ("media", format!("{} ({})", own.path, crate::size(own.size))),
                ("label", own.label.clone()),
                ("holds", counted(own.files, "file", "files")),
                ("boots", own.boot.join("; ")),
                ("answers", report.output.answer_files.join(", ")),
            ])
        })
        .collect();
    if let Some(source) = report.source.as_ref().filter(|source| source.size > 0) {
        let mut bars = vec![("source".to_owned(), source.size)];
        bars.extend(report.outputs.iter().map(|own| (own.form.to_owned(), own.size)));
        outputs.push(Block::Bars { caption: "The media before and after".into(), bars });
    }
    page.add("What will come out", outputs);
    add_answers(&mut page, &report.answers);
    let devices = report.devices.iter().map(|own| {
        let driver = match &own.driver {
            Some(driver) => Cell::text(driver),
            None => Cell::text("none of these packs").bad(),
        };
        vec![Cell::text(&own.name), Cell::text(&own.id), driver]
    });
    page.add("Devices", [Block::table("", &["Device", "Id", "Driver"], devices.collect())]);
    page.add("Editions", [editions_table(&report.editions)]);
    let lines: Vec<Line<'_>> = report.editions_work.iter().flat_map(lines_of_work).collect();
    add_items(&mut page, &lines);
    let steps = report.steps.iter().map(|own| {
        let bytes = if own.bytes == 0 { Cell::default() } else { Cell::bytes(own.bytes) };
        vec![Cell::text(&own.action), Cell::text(&own.subject), bytes, Cell::text(&own.reason)]
    });
    add_steps(&mut page, steps.collect(), &["Step", "What", "#Size", "Why there"]);
    let machines = report.variants.iter().map(|own| {
        let cells =
            own.cells.iter().map(|(name, value)| format!("{name} {}", value.as_str().unwrap_or_default()));
        vec![
            Cell::count(own.row as u64),
            Cell::text(&own.machine).leading_to(format!("machine-{}", own.row)),
            Cell::text(cells.collect::<Vec<_>>().join(", ")),
            Cell::text(own.outputs.join(", ")),
        ]
    });
    page.add(
        "Machines",
        [Block::table("", &["#Row", "Machine", "What the list says", "Media"], machines.collect())],
    );
    for map in maps {
        page.add(&format!("Megabytes of {} before", map.edition), map.blocks());
    }
    for own in &report.variants {
        let said = own
            .cells
            .iter()
            .map(|(name, value)| (name.clone(), value.as_str().unwrap_or_default().to_owned()));
        let media = own.outputs.iter().map(|path| ("media".to_owned(), path.clone()));
        let label = [("label".to_owned(), own.label.clone())];
        let sheet = Block::sheet(said.chain(label).chain(media));
        let build = format!("neatstack build {name} --only {}", own.machine);
        let blocks = [sheet, Block::Text("It alone is built by:".into()), Block::Command(build)];
        let mut section = Section::new(&own.machine, blocks);
        section.mark = Some(format!("machine-{}", own.row));
        page.sections.push(section);
    }
    page
}

fn line_of_ledger(item: &LedgerItem) -> Line<'_> {
    let LedgerItem { edition, kind, subject, verdict, detail, bytes } = item;
    Line { edition, kind, subject, verdict, detail, bytes: *bytes }
}

fn lines_of_work(work: &EditionWork) -> impl Iterator<Item = Line<'_>> {
    work.items.iter().map(|item| Line {
        edition: &work.edition,
        kind: item.kind,
        subject: &item.subject,
        verdict: item.verdict.word(),
        detail: &item.detail,
        bytes: item.bytes,
    })
}

/// What the answers will do to a machine, in words.
fn add_answers(page: &mut Page, answers: &[AnswersSummary]) {
    let blocks = answers.iter().flat_map(|own| {
        let head = Block::Text(format!("With the {} answers from {}:", own.dialect, own.name));
        [head, Block::List(own.does.clone())]
    });
    page.add("What it does to a machine", blocks.collect::<Vec<_>>());
}

/// What was done by its sort, then what was left out.
fn add_items(page: &mut Page, lines: &[Line<'_>]) {
    // With one edition, nobody needs its name in each row.
    let is_one = lines.iter().all(|line| line.edition == lines[0].edition);
    let row = |own: &Line<'_>| {
        let bytes = if own.bytes == 0 { Cell::default() } else { Cell::bytes(own.bytes) };
        let mut row = vec![Cell::text(own.subject), Cell::text(own.edition), bytes, Cell::text(own.detail)];
        if is_one {
            row.remove(1);
        }
        row
    };
    let heads: &[&str] =
        if is_one { &["What", "#Size", "Exactly"] } else { &["What", "Edition", "#Size", "Exactly"] };
    let tables = Item::KINDS.iter().map(|(kind, title)| {
        let own = lines.iter().filter(|line| line.kind == *kind && line.verdict == "applied");
        Block::table(title, heads, own.map(row).collect())
    });
    page.add("What is done inside the editions", tables);
    let left: Vec<&Line<'_>> = lines.iter().filter(|line| line.verdict != "applied").collect();
    let row = |own: &&Line<'_>| {
        let verdict = Cell::text(own.verdict);
        let verdict = if own.verdict == "refused" { verdict.bad() } else { verdict };
        vec![
            verdict,
            Cell::text(own.kind),
            Cell::text(own.subject),
            Cell::text(own.edition),
            Cell::text(own.detail),
        ]
    };
    let rows = left.iter().map(row).collect();
    page.add("What is left out", [Block::table("", &["Verdict", "Sort", "What", "Edition", "Why"], rows)]);
}

fn add_steps(page: &mut Page, steps: Vec<Vec<Cell>>, heads: &[&str]) {
    let mut rows = steps;
    for (n, row) in rows.iter_mut().enumerate() {
        row.insert(0, Cell::count(n as u64 + 1));
    }
    let heads: Vec<&str> = std::iter::once("#No.").chain(heads.iter().copied()).collect();
    page.add("Steps, in order", [Block::table("", &heads, rows)]);
}

fn remark(finding: &Finding) -> Remark {
    let (weight, word) = match finding.weight {
        Heavy::Refused => (Weight::Bad, "refused"),
        Heavy::Problem => (Weight::Bad, "problem"),
        Heavy::Danger => (Weight::Danger, "danger"),
        Heavy::Note => (Weight::Note, "note"),
    };
    Remark { weight, word: word.into(), message: finding.message.clone(), hint: finding.hint.clone() }
}
