#![no_main]
mod patches;
use libfuzzer_sys::fuzz_target;
use neat_content::{Content, Job, Timestamp};
use neat_media::touchup::{Action, Disc, list};

// Files put into damaged discs, hidden and taken back: what cannot be done leaves every byte as it was, what can be
// done can be taken back.
fuzz_target!(|data: &[u8]| {
    let (kind, ranges) = match data.first() {
        Some(first) if first % 2 == 0 => (patches::Kind::IsoOnly, vec![0..0x200, 0x8000..0x9800, 0x9800..0x14000]),
        _ => (patches::Kind::Udf, vec![0x8000..0x9800, 0x10000..0x22000, 0x80000..0x90000]),
    };
    patches::damage(kind, &ranges, true, data.get(1..).unwrap_or_default(), &|path| {
        let before = std::fs::read(path).unwrap();
        let content = Content::from_bytes(vec![1; 3000]);
        let time = Timestamp::from_seconds(5);
        let put = |path: &str| Action::Put { content: content.clone(), modified: time, path: path.into() };
        let hide = Action::Hide { path: "folder1/file number 1".into() };
        for actions in [vec![put("folder0/new")], vec![hide], vec![put("folder1/file number 1"), put("a/b")]] {
            let Ok(mut disc) = Disc::open(path) else { break };
            if disc.apply(actions, time, &Job::silent()).is_ok() {
                let _ = list(path);
                disc.undo(None).unwrap();
            }
            assert!(std::fs::read(path).unwrap() == before);
        }
    });
});
