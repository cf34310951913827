//! Answers for whoever asks for them: rendered for one machine of a site list, by its name, serial number or address.

use crate::{
    Dialect, Finding, Model, Secrets, Site, SiteList, Topic, check_file, check_model, serial_name,
    write::{Fetched, fetch, write_with},
};
use neat_content::{Error, Result};
use std::net::IpAddr;

/// A model, and the machines that may ask for answers made of it.
pub struct Offer {
    model: Model,
    fetched: Fetched,
    list: Option<SiteList>,
    accepted: Vec<Topic>,
    with_secrets: bool,
}

/// What is offered at a path.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Offered {
    /// There is nothing.
    Nothing,
    /// A file.
    File(Vec<u8>),
    /// There would be one, and it is not given out: why.
    Refused(String),
}

impl Offer {
    /// Takes a model and fetches what it refers to. Its answers have passwords only where `with_secrets` is true.
    ///
    /// # Errors
    /// As [`fetch`]; `BadRequest` for a list that lacks what the model needs, `Refused` for a model that erases without
    /// saying that this is meant.
    pub fn new(
        model: &Model,
        secrets: &mut Secrets<'_>,
        list: Option<SiteList>,
        accepted: &[Topic],
        with_secrets: bool,
    ) -> Result<Self> {
        let mut model = model.clone();
        let fetched = fetch(&mut model, secrets)?;
        let accepted = [model.accept.as_slice(), accepted].concat();
        let findings = list.iter().flat_map(|list| list.check(Some(&model), None));
        if let Some(finding) = findings.into_iter().find(|own| own.stops(&accepted)) {
            return Err(Error::request(finding.message, finding.hint));
        }
        let report = check_model(&model, None);
        if report.is_dangerous() {
            let hint = "write erases = \"yes\" in it if that is meant";
            return Err(Error::refused(format!("it {}", report.erasure.line()), hint));
        }
        Ok(Self { model, fetched, list, accepted, with_secrets })
    }

    /// What a machine at `from` gets at `path`: `FILE`, or `MACHINE/FILE`. FILE is a dialect's usual name, such as
    /// `preseed.cfg`; MACHINE a name or serial number of the site list, or what its column `address` says.
    pub fn get(&self, path: &str, from: IpAddr) -> Offered {
        let (key, file) = match path.rsplit_once('/') {
            Some((key, file)) => (Some(key), file),
            None => (None, path),
        };
        let site = match (&self.list, key) {
            (None, None) => None,
            (None, Some(_)) => return Offered::Nothing,
            (Some(list), key) => match machine(list, key, from) {
                Some(site) => Some(site),
                None => return Offered::Nothing,
            },
        };
        let named = |place: &&str| place.eq_ignore_ascii_case(file);
        if Dialect::ALL.iter().any(|own| own.companions().iter().any(named)) {
            return Offered::File(Vec::new());
        }
        let dialect = Dialect::ALL.iter().find(|own| own.places().iter().any(named));
        let Some(dialect) = dialect else { return Offered::Nothing };
        self.rendered(*dialect, site).unwrap_or_else(|error| Offered::Refused(error.to_string()))
    }

    fn rendered(&self, dialect: Dialect, site: Option<&Site>) -> Result<Offered> {
        let model = site.map_or_else(|| Ok(self.model.clone()), |site| site.fill_model(&self.model))?;
        let written = write_with(&model, dialect, &self.fetched)?;
        let report = check_file(&written.file()?, None);
        let mut findings = report.findings.iter().chain(&written.findings);
        if let Some(Finding { field, message, topic, .. }) = findings.find(|own| own.stops(&self.accepted)) {
            return Ok(Offered::Refused(format!("{field}: {message} (topic {})", topic.name())));
        }
        if !written.files.is_empty() {
            return Ok(Offered::Refused("they need files beside them, which only a media has".into()));
        }
        // Where there is anything to fetch, it may be inside, however it is said.
        let may_hold = !self.fetched.secrets().is_empty() || crate::holds_secret(&written.bytes);
        if may_hold && !self.with_secrets {
            return Ok(Offered::Refused("they have passwords, which are not given out".into()));
        }
        Ok(Offered::File(written.bytes))
    }
}

/// The machine of a list that is meant.
fn machine<'a>(list: &'a SiteList, key: Option<&str>, from: IpAddr) -> Option<&'a Site> {
    let cell = |site: &Site, name: &str| site.cells.get(name).cloned().unwrap_or_default();
    let address =
        |site: &Site| cell(site, "address").split('/').next().and_then(|own| own.trim().parse().ok());
    let Some(key) = key else {
        return list.sites.iter().find(|site| address(site) == Some(from));
    };
    let serial = serial_name(key);
    let by_name = list.sites.iter().find(|site| site.name.eq_ignore_ascii_case(key));
    let by_serial =
        || list.sites.iter().find(|site| !serial.is_empty() && serial_name(&cell(site, "serial")) == serial);
    let by_address = || {
        let wanted: IpAddr = key.parse().ok()?;
        list.sites.iter().find(|site| address(site) == Some(wanted))
    };
    by_name.or_else(by_serial).or_else(by_address)
}
