//! A hive of 11 MB: read, one edit, write. `cd benches/kernels && cargo bench --bench hives`.

use divan::Bencher;
use neat_registry::{Hive, ValueKind, text_data};
use std::sync::{Arc, OnceLock};

static HIVE: OnceLock<Arc<[u8]>> = OnceLock::new();

/// A hive with as many keys and values as those of real systems of this size.
fn hive() -> Arc<[u8]> {
    let make = || {
        let mut hive = Hive::new(5, "SOFTWARE", &[0; 20], 1);
        for n in 0..34_000 {
            let path = format!("Classes\\Group {}\\{{{n:08x}-0000-4000-8000-0123456789ab}}\\Server", n % 300);
            let key = hive.create(&path).unwrap();
            hive.set(key, "", ValueKind::TEXT, &text_data(&format!("%SystemRoot%\\System32\\part{n}.dll"))).unwrap();
            hive.set(key, "Threading", ValueKind::TEXT, &text_data("Both")).unwrap();
            hive.set(key, "Flags", ValueKind::NUMBER, &[1, 0, 0, 0]).unwrap();
        }
        hive.write().unwrap().into()
    };
    Arc::clone(HIVE.get_or_init(make))
}

fn main() {
    println!("{} bytes", hive().len());
    divan::main();
}

#[divan::bench(sample_count = 20)]
fn read_edit_write(bencher: Bencher<'_, '_>) {
    let bytes = hive();
    bencher.bench_local(|| {
        let mut hive = Hive::read(bytes.to_vec()).unwrap();
        let key = hive.create("Brackwater\\Console").unwrap();
        hive.set(key, "Greeting", ValueKind::TEXT, &text_data("Welcome")).unwrap();
        hive.write().unwrap().len()
    });
}
