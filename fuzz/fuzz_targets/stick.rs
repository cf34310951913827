#![no_main]
use libfuzzer_sys::fuzz_target;
use neat_content::{Content, Job, Meta, Output, Source, Timestamp, Tree};
use neat_media::{
    bootwalk, read,
    stick::{Options, Scheme, StickPlan, UpdateOptions, plan_update},
};
use std::{fs::File, os::unix::fs::FileExt, path::PathBuf, sync::OnceLock};

struct Sound {
    path: PathBuf,
    tree: Tree,
    /// Where it says something.
    ranges: Vec<std::ops::Range<u64>>,
}

static SOUND: OnceLock<Sound> = OnceLock::new();

fn make() -> Sound {
    let meta = Meta::at(Timestamp::from_seconds(1_700_000_000));
    let mut tree = Tree::new(meta);
    for (name, len) in [("quayboot", 700), ("EFI/BOOT/BOOTX64.EFI", 3000), ("deep/a long name.txt", 9)] {
        tree.put_file(name, Content::from_bytes(vec![0x4D; len]), meta).unwrap();
    }
    let options = Options {
        scheme: Scheme::Gpt,
        len: None,
        label: "QUAY".into(),
        time: meta.modified,
        seed: [1; 32],
        manager: None,
    };
    let plan = StickPlan::new(&tree, &[], &options).unwrap();
    let path = std::env::temp_dir().join(format!("neatstack-fuzz-stick-{}", std::process::id()));
    let mut output = Output::new(File::create(&path).unwrap(), &path, None);
    plan.write(&mut output, &Job::silent()).unwrap();
    output.finish().unwrap();
    let ranges = plan.slots.iter().map(|slot| slot.offset..slot.offset + slot.content.len().min(1024)).collect();
    Sound { path, tree, ranges }
}

// Changes to a sound stick: a range, two bytes of place in it, one of value. Nothing panics, whatever is read.
fuzz_target!(|data: &[u8]| {
    let sound = SOUND.get_or_init(make);
    let file = File::options().read(true).write(true).open(&sound.path).unwrap();
    let mut undo = Vec::new();
    for change in data.chunks_exact(4).take(32) {
        let range = &sound.ranges[usize::from(change[0]) % sound.ranges.len()];
        let place = range.start + (u64::from(change[1]) << 8 | u64::from(change[2])) % (range.end - range.start);
        let mut old = [0];
        file.read_exact_at(&mut old, place).unwrap();
        undo.push((place, old));
        file.write_all_at(&change[3..4], place).unwrap();
    }
    if let Ok(media) = read::open(&sound.path) {
        let _ = media.tree.counts();
    }
    let _ = bootwalk::walk(&sound.path);
    let source = Source::open(&sound.path).unwrap();
    let _ = plan_update(&source, &sound.tree, UpdateOptions::default(), &Job::silent());
    for (place, old) in undo.into_iter().rev() {
        file.write_all_at(&old, place).unwrap();
    }
});
