//! Discs of every kind written by a writer that answers by the standard: the order of commands, what lies on the disc, and what
//! goes wrong.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::items_after_statements,
    clippy::semicolon_if_nothing_returned,
    missing_docs,
    reason = "tests stop at the first surprise"
)]

use neat_content::{Content, Job};
use neat_recorder::{
    Answer, BLOCK, Data, Disc, DiscKind, DiscState, PacketDevice, Unit, commands, erase, guard,
    simulated::{Description, DiscDescription, Fault, SimulatedWriter},
    write::{self, Options},
};
use std::{fs::File, os::unix::fs::FileExt, time::Duration};

/// 150 KiB and a bit: not a whole number of blocks.
const LEN: usize = 150 * 1024 + 77;

fn image(len: usize) -> Vec<u8> {
    (0..len).map(|at| (at.wrapping_mul(2_654_435_761) >> 13) as u8).collect()
}

fn writer(kind: DiscKind, state: DiscState, used: u32, faults: &[Fault]) -> (SimulatedWriter, File) {
    let disc = DiscDescription { kind, blocks: 4_000, state, used, speeds: vec![1_764, 7_056, 8_467] };
    let description = Description {
        maker: "LANTERN".into(),
        model: "DW-12 Deck".into(),
        serial: "LW12-0001".into(),
        disc: Some(disc),
        faults: faults.to_vec(),
    };
    let file = tempfile::tempfile().unwrap();
    (SimulatedWriter::new(description, "writer", file.try_clone().unwrap()), file)
}

fn bytes_of(file: &File, len: usize) -> Vec<u8> {
    let mut bytes = vec![0; len];
    let mut done = 0;
    while done < len {
        match file.read_at(&mut bytes[done..], done as u64).unwrap() {
            0 => break,
            read => done += read,
        }
    }
    bytes
}

fn write(
    writer: &mut SimulatedWriter,
    bytes: &[u8],
    options: Options,
) -> neat_content::Result<write::Outcome> {
    write::disc(&mut Unit::new(writer), &Content::from_bytes(bytes), options, &Job::silent())
}

/// What looking at the disc asks, before anything is done.
const LOOKS: [&str; 7] = [
    "TEST UNIT READY",
    "GET CONFIGURATION",
    "READ DISC INFORMATION",
    "READ TRACK INFORMATION",
    "READ FORMAT CAPACITIES",
    "READ CAPACITY",
    "GET PERFORMANCE",
];

/// The commands that do something, in order.
fn done(writer: &SimulatedWriter) -> Vec<&str> {
    writer.log().iter().map(String::as_str).filter(|line| !LOOKS.contains(line)).collect()
}

#[test]
fn each_kind_of_disc_is_written_in_the_order_of_the_standard() {
    use DiscKind::*;
    use DiscState::*;
    // 76 blocks of data; a CD has 150 behind them, DVDs whole blocks of 16, BDs of 32.
    let at_once = |blocks: u32| {
        [
            "MODE SENSE (10)".to_owned(),
            "MODE SELECT (10)".into(),
            "SEND OPC INFORMATION".into(),
            format!("RESERVE TRACK {blocks}"),
        ]
    };
    let cd = ["MODE SENSE (10)".to_owned(), "MODE SELECT (10)".into(), "SEND OPC INFORMATION".into()];
    let read = "READ (10) 0..76";
    for (kind, state, used, before, blocks, after) in [
        (
            CdR,
            Empty,
            0,
            cd.to_vec(),
            226,
            vec!["SYNCHRONIZE CACHE", "CLOSE TRACK SESSION 1", "CLOSE TRACK SESSION 2"],
        ),
        (
            CdRw,
            Empty,
            0,
            cd.to_vec(),
            226,
            vec!["SYNCHRONIZE CACHE", "CLOSE TRACK SESSION 1", "CLOSE TRACK SESSION 2"],
        ),
        (
            CdRw,
            Written,
            900,
            cd.to_vec(),
            226,
            vec!["SYNCHRONIZE CACHE", "CLOSE TRACK SESSION 1", "CLOSE TRACK SESSION 2"],
        ),
        (DvdR, Empty, 0, at_once(80).to_vec(), 80, vec!["SYNCHRONIZE CACHE"]),
        (DvdRDl, Empty, 0, at_once(80).to_vec(), 80, vec!["SYNCHRONIZE CACHE"]),
        (DvdRw, Empty, 0, at_once(80).to_vec(), 80, vec!["SYNCHRONIZE CACHE"]),
        (DvdRw, Appendable, 320, at_once(80).to_vec(), 80, vec!["SYNCHRONIZE CACHE"]),
        (DvdRwOver, Written, 320, at_once(80).to_vec(), 80, vec!["SYNCHRONIZE CACHE"]),
        (
            DvdPlusR,
            Empty,
            0,
            vec![],
            80,
            vec!["SYNCHRONIZE CACHE", "CLOSE TRACK SESSION 1", "CLOSE TRACK SESSION 6"],
        ),
        (
            DvdPlusRDl,
            Empty,
            0,
            vec![],
            80,
            vec!["SYNCHRONIZE CACHE", "CLOSE TRACK SESSION 1", "CLOSE TRACK SESSION 6"],
        ),
        (
            BdR,
            Empty,
            0,
            vec![],
            96,
            vec!["SYNCHRONIZE CACHE", "CLOSE TRACK SESSION 1", "CLOSE TRACK SESSION 6"],
        ),
        (DvdPlusRw, Unformatted, 0, vec![], 80, vec!["SYNCHRONIZE CACHE", "CLOSE TRACK SESSION 2"]),
        (DvdPlusRw, Written, 640, vec![], 80, vec!["SYNCHRONIZE CACHE", "CLOSE TRACK SESSION 2"]),
        (DvdRam, Written, 640, vec![], 80, vec!["SYNCHRONIZE CACHE"]),
        (BdRe, Unformatted, 0, vec![], 96, vec!["SYNCHRONIZE CACHE"]),
        (BdRe, Empty, 0, vec![], 96, vec!["SYNCHRONIZE CACHE"]),
    ] {
        let (mut own, file) = writer(kind, state, used, &[]);
        let bytes = image(LEN);
        let outcome = write(&mut own, &bytes, Options::default())
            .unwrap_or_else(|error| panic!("{kind:?} {state:?}: {error}"));
        let mut wanted: Vec<String> = Vec::new();
        let is_blanked = kind.is_blanked() && state != Empty;
        if is_blanked {
            wanted.push("BLANK 1".into());
        }
        if state == Unformatted {
            wanted.push("FORMAT UNIT".into());
        }
        wanted.push("PREVENT ALLOW MEDIUM REMOVAL 1".into());
        wanted.extend(before);
        wanted.push(format!("WRITE (10) 0..{blocks}"));
        wanted.extend(after.into_iter().map(str::to_owned));
        wanted.extend([read.to_owned(), "PREVENT ALLOW MEDIUM REMOVAL 0".into(), "START STOP UNIT 2".into()]);
        assert_eq!(done(&own), wanted, "{kind:?} {state:?}");
        let is_lost = matches!(state, Appendable | Written);
        assert_eq!(
            (outcome.erased, outcome.written, outcome.compared),
            (is_lost, LEN as u64, LEN as u64),
            "{kind:?}"
        );
        assert_eq!(outcome.written + outcome.behind, blocks as u64 * BLOCK, "{kind:?}");
        let mut expected = bytes;
        expected.resize(blocks as usize * 2048, 0);
        assert!(bytes_of(&file, expected.len()) == expected, "{kind:?}");
    }
}

#[test]
fn a_finished_disc_is_seen_as_one_and_not_written_again() {
    for (kind, is_lost) in [
        (DiscKind::CdR, true),
        (DiscKind::DvdR, true),
        (DiscKind::DvdPlusR, true),
        (DiscKind::BdR, true),
        (DiscKind::CdRw, false),
        (DiscKind::DvdPlusRw, false),
    ] {
        let (mut own, _file) = writer(kind, DiscState::Empty, 0, &[]);
        let options = Options { eject: false, ..Options::default() };
        write(&mut own, &image(LEN), options).unwrap();
        let disc = Disc::in_writer(&mut Unit::new(&mut own)).unwrap().unwrap();
        assert_eq!((disc.kind, disc.state), (Some(kind), DiscState::Written));
        let again = write(&mut own, &image(9_999), options);
        assert_eq!(again.is_err(), is_lost, "{kind:?}");
        if let Err(error) = again {
            assert!(error.to_string().contains("cannot be written"), "{error}");
        }
    }
}

#[test]
fn faults_end_with_the_block_and_the_disc_can_be_taken_out() {
    use Fault::*;
    for (kind, faults, message) in [
        (
            DiscKind::DvdPlusR,
            vec![WriteError(40)],
            "block 32: writer: WRITE (10): it cannot write there (3/0C/00)",
        ),
        (
            DiscKind::CdR,
            vec![RunsEmpty(40), NoProtection(true)],
            "data came too slowly, and the disc is spoilt (3/0C/09)",
        ),
        (DiscKind::BdR, vec![TakenOut(50)], "there is no disc in it (2/3A/00)"),
        (DiscKind::DvdR, vec![WrongRead(33)], "other bytes than the image from byte 67584 on"),
        (
            DiscKind::DvdPlusRw,
            vec![ReadError(70)],
            "block 64: writer: READ (10): it cannot read there (3/11/05)",
        ),
    ] {
        let (mut own, _file) = writer(kind, DiscState::Empty, 0, &faults);
        let error = write(&mut own, &image(LEN), Options::default()).unwrap_err();
        assert!(error.to_string().contains(message), "{kind:?}: {error}");
        let spoilt = error.hint().to_string().contains("cannot be used again");
        assert_eq!(spoilt, !kind.is_rewritable(), "{}", error.hint());
        assert_eq!(done(&own).last(), Some(&"PREVENT ALLOW MEDIUM REMOVAL 0"), "{kind:?}");
    }
    // What a writer can do something about goes well.
    for (kind, faults) in [
        (DiscKind::CdR, vec![RunsEmpty(40)]),
        (DiscKind::CdR, vec![NoProtection(true), NoCalibration(true)]),
        (DiscKind::DvdPlusR, vec![BufferFull(2), Works(7)]),
        (DiscKind::DvdR, vec![BufferFull(3)]),
        (DiscKind::BdR, vec![WantsRestart(true)]),
    ] {
        let (mut own, file) = writer(kind, DiscState::Empty, 0, &faults);
        write(&mut own, &image(LEN), Options::default())
            .unwrap_or_else(|error| panic!("{kind:?} {faults:?}: {error}"));
        assert!(bytes_of(&file, LEN) == image(LEN));
    }
}

#[test]
fn what_does_not_fit_or_is_not_there_is_refused_before_anything_is_done() {
    let (mut small, _file) = writer(DiscKind::DvdPlusR, DiscState::Empty, 0, &[]);
    let error = write(&mut small, &image(4_001 * 2048), Options::default()).unwrap_err();
    assert!(error.to_string().contains("too small by 1 MiB"), "{error}");
    assert!(done(&small).is_empty());
    let (mut cd, _file) = writer(DiscKind::CdR, DiscState::Empty, 0, &[]);
    // What has to be behind the data counts.
    assert!(write(&mut cd, &image(3_900 * 2048), Options::default()).is_err());
    assert!(
        write(&mut cd, &image(0), Options::default()).unwrap_err().to_string().contains("nothing to write")
    );
    let (mut pressed, _file) = writer(DiscKind::DvdRom, DiscState::Written, 900, &[]);
    assert!(
        write(&mut pressed, &image(LEN), Options::default())
            .unwrap_err()
            .to_string()
            .contains("cannot be written")
    );
    let mut description = Description {
        maker: "L".into(),
        model: "M".into(),
        serial: String::new(),
        disc: None,
        faults: vec![],
    };
    let mut none = SimulatedWriter::new(description.clone(), "writer", tempfile::tempfile().unwrap());
    assert!(write(&mut none, &image(LEN), Options::default()).unwrap_err().to_string().contains("no disc"));
    assert_eq!(Disc::in_writer(&mut Unit::new(&mut none)).unwrap(), None);
    // A full disc that can be written again is measured before it is erased.
    description.disc = Some(DiscDescription {
        kind: DiscKind::CdRw,
        blocks: 300,
        state: DiscState::Written,
        used: 200,
        speeds: vec![],
    });
    let mut full = SimulatedWriter::new(description, "writer", tempfile::tempfile().unwrap());
    assert!(
        write(&mut full, &image(200 * 2048), Options::default())
            .unwrap_err()
            .to_string()
            .contains("too small")
    );
    assert!(done(&full).is_empty(), "{:?}", full.log());
}

#[test]
fn speeds_are_those_that_the_disc_has() {
    for (kind, times, speed, command) in [
        (DiscKind::CdR, 40.0, 7_056, "SET CD SPEED"),
        (DiscKind::CdR, 1.0, 1_764, "SET CD SPEED"),
        (DiscKind::DvdPlusR, 5.0, 7_056, "SET STREAMING"),
        (DiscKind::DvdPlusR, 99.0, 8_467, "SET STREAMING"),
    ] {
        let (mut own, _file) = writer(kind, DiscState::Empty, 0, &[]);
        let outcome =
            write(&mut own, &image(LEN), Options { speed: Some(times), ..Options::default() }).unwrap();
        assert_eq!(outcome.speed, Some(speed), "{kind:?} {times}");
        assert_eq!(done(&own)[1], command);
    }
    let (mut own, _file) = writer(DiscKind::CdR, DiscState::Empty, 0, &[]);
    let error =
        write(&mut own, &image(LEN), Options { speed: Some(-1.0), ..Options::default() }).unwrap_err();
    assert!(error.to_string().contains("is no speed"), "{error}");
}

#[test]
fn erasing_takes_what_is_on_a_disc_and_nothing_else() {
    for (kind, whole, command) in [
        (DiscKind::CdRw, false, "BLANK 1"),
        (DiscKind::CdRw, true, "BLANK 0"),
        (DiscKind::DvdRwOver, false, "BLANK 1"),
        (DiscKind::BdRe, false, "FORMAT UNIT"),
    ] {
        let (mut own, _file) = writer(kind, DiscState::Written, 900, &[Fault::Works(9)]);
        let disc = Disc::in_writer(&mut Unit::new(&mut own)).unwrap().unwrap();
        erase::disc(&mut Unit::new(&mut own), &disc, whole, &Job::silent()).unwrap();
        assert_eq!(done(&own), [command], "{kind:?}");
        let after = Disc::in_writer(&mut Unit::new(&mut own)).unwrap().unwrap();
        assert_eq!(after.state, DiscState::Empty, "{kind:?}");
    }
    let (mut own, _file) = writer(DiscKind::CdR, DiscState::Written, 900, &[]);
    let disc = Disc::in_writer(&mut Unit::new(&mut own)).unwrap().unwrap();
    let error = erase::disc(&mut Unit::new(&mut own), &disc, false, &Job::silent()).unwrap_err();
    assert!(error.to_string().contains("cannot be erased"), "{error}");
}

#[test]
fn a_writer_is_written_to_only_by_its_word() {
    let consent = |own: &mut SimulatedWriter, write, erase| {
        let mut unit = Unit::new(own);
        let identity = unit.identity().unwrap();
        assert_eq!((identity.model.as_str(), identity.serial.as_str()), ("LANTERN DW-12 Deck", "LW12-0001"));
        let disc = Disc::in_writer(&mut unit).unwrap().unwrap();
        guard::check("writer", &identity, &disc, guard::Consent { write, erase })
            .map_err(|error| format!("{error} {}", error.hint()))
    };
    let word = Some("LW12-0001");
    let (mut empty, _file) = writer(DiscKind::DvdPlusR, DiscState::Empty, 0, &[]);
    assert!(consent(&mut empty, word, None).is_ok() && consent(&mut empty, None, word).is_ok());
    assert!(consent(&mut empty, None, None).unwrap_err().contains("--yes-write LW12-0001"));
    assert!(consent(&mut empty, Some("other"), None).unwrap_err().contains("not other"));
    let (mut full, _file) = writer(DiscKind::DvdPlusRw, DiscState::Written, 900, &[]);
    assert!(consent(&mut full, word, None).unwrap_err().contains("--yes-erase LW12-0001"));
    assert!(consent(&mut full, None, word).is_ok());
}

/// The simulated writer judges by the standard: wrong orders, places and forms are refused.
#[test]
fn what_comes_in_a_wrong_order_is_refused_by_the_writer() {
    let send = |own: &mut SimulatedWriter, command: &[u8], data: Data<'_>| match own
        .send(command, data, Duration::from_secs(1))
        .unwrap()
    {
        Answer::Good(_) => (0, 0, 0),
        Answer::Check(sense) => (sense.key, sense.code, sense.qualifier),
    };
    let zeros = vec![0; 16 * 2048];
    let ready =
        |own: &mut SimulatedWriter| while send(own, &commands::test_unit_ready(), Data::None) != (0, 0, 0) {};
    // A CD without its write parameters; a DVD-R without a reserved track; a gap; a disc that is not formatted.
    let (mut cd, _f) = writer(DiscKind::CdR, DiscState::Empty, 0, &[]);
    ready(&mut cd);
    assert_eq!(send(&mut cd, &commands::write_blocks(0, 16), Data::Out(&zeros)), (5, 0x64, 0));
    assert_eq!(send(&mut cd, &commands::reserve_track(160), Data::None), (5, 0x2C, 0));
    let (mut dvd, _f) = writer(DiscKind::DvdR, DiscState::Empty, 0, &[]);
    ready(&mut dvd);
    assert_eq!(send(&mut dvd, &commands::reserve_track(160), Data::None), (5, 0x2C, 0), "no disc at once");
    let (mut plus, _f) = writer(DiscKind::DvdPlusR, DiscState::Empty, 0, &[]);
    ready(&mut plus);
    assert_eq!(send(&mut plus, &commands::write_blocks(16, 16), Data::Out(&zeros)), (5, 0x21, 2));
    assert_eq!(send(&mut plus, &commands::write_blocks(0, 16), Data::Out(&zeros[2048..])), (5, 0x24, 0));
    assert_eq!(send(&mut plus, &commands::write_blocks(0, 16), Data::Out(&zeros)), (0, 0, 0));
    assert_eq!(
        send(&mut plus, &commands::close(commands::Close::Track(1)), Data::None),
        (5, 0x2C, 0),
        "the cache first"
    );
    assert_eq!(send(&mut plus, &commands::synchronize_cache(), Data::None), (0, 0, 0));
    assert_eq!(
        send(&mut plus, &commands::close(commands::Close::Track(1)), Data::None),
        (2, 4, 7),
        "it is at work"
    );
    ready(&mut plus);
    assert_eq!(
        send(&mut plus, &commands::close(commands::Close::Disc), Data::None),
        (5, 0x72, 3),
        "the track first"
    );
    let (mut raw, _f) = writer(DiscKind::BdRe, DiscState::Unformatted, 0, &[]);
    ready(&mut raw);
    assert_eq!(send(&mut raw, &commands::write_blocks(0, 16), Data::Out(&zeros)), (3, 0x31, 0));
    assert_eq!(send(&mut raw, &commands::blank(false), Data::None), (5, 0x30, 5));
    assert_eq!(send(&mut raw, &[0xFE], Data::None), (5, 0x20, 0));
    // A disc that is held stays in.
    assert_eq!(send(&mut raw, &commands::prevent_removal(true), Data::None), (0, 0, 0));
    assert_eq!(send(&mut raw, &commands::eject(), Data::None), (5, 0x53, 2));
}

/// A device that answers with whatever bytes it likes.
struct Liar {
    seed: u64,
}

impl PacketDevice for Liar {
    fn name(&self) -> String {
        "liar".into()
    }

    fn send(&mut self, command: &[u8], data: Data<'_>, _limit: Duration) -> std::io::Result<Answer> {
        let mut next = || {
            self.seed =
                self.seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            self.seed >> 33
        };
        let Data::In(buffer) = data else { return Ok(Answer::Good(0)) };
        buffer.iter_mut().for_each(|byte| *byte = next() as u8);
        // Often enough it is taken for a writer, and for a disc of some kind.
        if command[0] == 0x12 {
            buffer[0] = 5;
        }
        if command[0] == 0x46 && buffer.len() >= 8 {
            let kinds = DiscKind::ALL;
            let profile = kinds[next() as usize % kinds.len()].profile().to_be_bytes();
            buffer[6..8].copy_from_slice(&profile);
        }
        let len = match next() % 3 {
            0 => next() as usize % (buffer.len() + 1),
            1 => buffer.len() + 7,
            _ => buffer.len(),
        };
        Ok(Answer::Good(len))
    }

    fn pause(&mut self, _time: Duration) {}
}

#[test]
fn a_device_that_says_anything_is_survived() {
    for seed in 0..3_000 {
        let mut liar = Liar { seed };
        let mut unit = Unit::new(&mut liar);
        let _ = unit.identity();
        let _ = Disc::in_writer(&mut unit);
        let content = Content::from_bytes(image(5_000));
        let _ = write::disc(&mut unit, &content, Options::default(), &Job::silent());
    }
}
