#![no_main]
use libfuzzer_sys::fuzz_target;
use neat_content::Tree;
use neat_package::{Architecture, Driver};

fuzz_target!(|data: &[u8]| {
    let Ok(driver) = Driver::read("pack/a.inf", data) else { return };
    for architecture in Architecture::ALL {
        driver.devices_for(architecture, Some((10, 0, 19041)));
        driver.files(architecture, &Tree::default());
    }
});
