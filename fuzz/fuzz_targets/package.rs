#![no_main]
use libfuzzer_sys::fuzz_target;
use neat_content::Content;
use neat_package::{Identity, PackageManifest, VendorPackage, VendorTarget, order_vendors};

// Vendors' packages: a file of any kind, a manifest, and the order of packages with it.
fuzz_target!(init: {
    // What the library for cabinets does on hostile ones is caught by us; a panic of our own still ends the run.
    std::panic::set_hook(Box::new(|panic| eprintln!("{panic}")));
}, |data: &[u8]| {
    let mut packages = Vec::new();
    if let Ok(Some(package)) = VendorPackage::of_content(&Content::from_bytes(data.to_vec())) {
        packages.push(package);
    }
    for part in data.split(|byte| *byte == 0) {
        if let Ok(Some(manifest)) = PackageManifest::read(part) {
            let mut package = VendorPackage::default();
            package.main.manifest = manifest;
            packages.push(package);
        }
    }
    let records = std::str::from_utf8(data).into_iter().flat_map(str::lines).filter_map(Identity::of_record);
    let target = VendorTarget { records: records.take(20).collect(), ..VendorTarget::default() };
    let all: Vec<&VendorPackage> = packages.iter().take(8).collect();
    let ordered = order_vendors(&all, &target);
    assert_eq!(ordered.outcomes.len(), all.len());
    // Each goes in once.
    let mut order = ordered.order.clone();
    order.sort_unstable();
    order.dedup();
    assert_eq!(order.len(), ordered.order.len());
});
