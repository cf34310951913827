//! Tables that map what one dialect says to what another says: time zones, keyboards, languages.

use std::sync::LazyLock;

static ZONES: &str = include_str!("../data/time-zones.txt");
static KEYBOARDS: &str = include_str!("../data/keyboards.txt");

fn lines(text: &'static str) -> impl Iterator<Item = &'static str> {
    text.lines().filter(|line| !line.is_empty() && !line.starts_with('#'))
}

/// IANA name, whether it stands for the other name, the other name.
static ZONE_TABLE: LazyLock<Vec<(&str, bool, &str)>> = LazyLock::new(|| {
    let row = |line: &'static str| {
        let (iana, name) = line.split_once('\t')?;
        Some((iana.trim_end_matches('*'), iana.ends_with('*'), name))
    };
    lines(ZONES).filter_map(row).collect()
});

/// The name that install images have for an IANA time zone.
pub(crate) fn zone_name(iana: &str) -> Option<&'static str> {
    ZONE_TABLE.iter().find(|(own, ..)| own.eq_ignore_ascii_case(iana)).map(|(_, _, name)| *name)
}

/// The IANA time zone that stands for such a name.
pub(crate) fn zone_of_name(name: &str) -> Option<&'static str> {
    ZONE_TABLE.iter().find(|(_, first, own)| *first && own.eq_ignore_ascii_case(name)).map(|(iana, ..)| *iana)
}

/// All IANA names.
pub fn zones() -> impl Iterator<Item = &'static str> {
    ZONE_TABLE.iter().map(|(iana, ..)| *iana)
}

/// The time zone that a word was probably meant to be: a city by itself is enough.
pub(crate) fn near_zone(word: &str) -> Option<&'static str> {
    let word = word.trim().replace(' ', "_");
    let city = |zone: &'static str| zone.rsplit('/').next().unwrap_or(zone);
    let same = zones().find(|zone| city(zone).eq_ignore_ascii_case(&word));
    // A city that is written a little otherwise, then the whole name.
    let near_city = || {
        let near = neat_content::nearest(&word, zones().map(city))?;
        zones().find(|zone| city(zone) == near)
    };
    let whole = || neat_content::nearest(&word, zones());
    if word.contains('/') {
        same.or_else(whole).or_else(near_city)
    } else {
        same.or_else(near_city).or_else(whole)
    }
}

/// Names of languages in English, for those who write one instead of a tag.
const LANGUAGE_NAMES: [(&str, &str); 32] = [
    ("arabic", "ar-SA"),
    ("bulgarian", "bg-BG"),
    ("chinese", "zh-CN"),
    ("croatian", "hr-HR"),
    ("czech", "cs-CZ"),
    ("danish", "da-DK"),
    ("dutch", "nl-NL"),
    ("english", "en-GB"),
    ("estonian", "et-EE"),
    ("finnish", "fi-FI"),
    ("french", "fr-FR"),
    ("german", "de-DE"),
    ("greek", "el-GR"),
    ("hebrew", "he-IL"),
    ("hungarian", "hu-HU"),
    ("italian", "it-IT"),
    ("japanese", "ja-JP"),
    ("korean", "ko-KR"),
    ("latvian", "lv-LV"),
    ("lithuanian", "lt-LT"),
    ("norwegian", "nb-NO"),
    ("polish", "pl-PL"),
    ("portuguese", "pt-PT"),
    ("romanian", "ro-RO"),
    ("russian", "ru-RU"),
    ("slovak", "sk-SK"),
    ("slovenian", "sl-SI"),
    ("spanish", "es-ES"),
    ("swedish", "sv-SE"),
    ("thai", "th-TH"),
    ("turkish", "tr-TR"),
    ("ukrainian", "uk-UA"),
];

/// The language tag that a word was probably meant to be.
pub(crate) fn near_language(word: &str) -> Option<&'static str> {
    let word = word.trim().replace('_', "-");
    let known = || LANGUAGE_NAMES.iter().copied();
    let same = known().find(|(name, _)| name.eq_ignore_ascii_case(&word)).map(|(_, tag)| tag);
    let by_name = || {
        let near = neat_content::nearest(&word, known().map(|(name, _)| name))?;
        known().find(|(name, _)| *name == near).map(|(_, tag)| tag)
    };
    same.or_else(|| neat_content::nearest(&word, language_tags())).or_else(by_name)
}

/// All names that install images have for time zones.
pub(crate) fn zone_names() -> impl Iterator<Item = &'static str> {
    ZONE_TABLE.iter().filter(|(_, first, _)| *first).map(|(_, _, name)| *name)
}

/// A language and its usual keyboard.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Keyboard {
    /// Language tag.
    pub tag: &'static str,
    /// Language identifier, four hexadecimal digits.
    pub language: &'static str,
    /// Identifier of the layout, eight hexadecimal digits.
    pub layout: &'static str,
    /// Layout of X, with its variant in parentheses.
    pub xkb: &'static str,
}

static KEYBOARD_TABLE: LazyLock<Vec<Keyboard>> = LazyLock::new(|| {
    let row = |line: &'static str| {
        let mut cells = line.split('\t');
        Some(Keyboard {
            tag: cells.next()?,
            language: cells.next()?,
            layout: cells.next()?,
            xkb: cells.next()?,
        })
    };
    lines(KEYBOARDS).filter_map(row).collect()
});

fn keyboards() -> &'static [Keyboard] {
    &KEYBOARD_TABLE
}

fn of_tag(tag: &str) -> Option<Keyboard> {
    keyboards().iter().find(|row| row.tag.eq_ignore_ascii_case(tag)).copied()
}

/// All language tags that are known with a keyboard.
pub fn language_tags() -> impl Iterator<Item = &'static str> {
    keyboards().iter().map(|row| row.tag)
}

/// The language tag with this identifier, as systems and setups number languages; the first where several have it.
pub fn language_of_id(id: u16) -> Option<&'static str> {
    keyboards().iter().find(|row| u16::from_str_radix(row.language, 16) == Ok(id)).map(|row| row.tag)
}

/// The identifier of a language.
pub(crate) fn id_of_language(tag: &str) -> Option<u16> {
    of_tag(tag).and_then(|row| u16::from_str_radix(row.language, 16).ok())
}

/// A keyboard of the neutral form by its identifiers, also one that is a language's usual one.
pub(crate) fn exact_pair(keyboard: &str) -> Option<String> {
    let row = |row: &Keyboard| format!("{}:{}", row.language, row.layout).to_lowercase();
    let pair = layout_pair(keyboard)?;
    if is_layout_pair(&pair) { Some(pair.to_lowercase()) } else { of_tag(&pair).as_ref().map(row) }
}

/// The keyboard of identifiers in the neutral form: the tag of a language for which it is the usual one.
pub(crate) fn keyboard_of_pair(pair: &str) -> String {
    let same = |row: &&Keyboard| format!("{}:{}", row.language, row.layout).eq_ignore_ascii_case(pair);
    keyboards().iter().find(same).map_or_else(|| pair.to_lowercase(), |row| row.tag.to_owned())
}

/// Whether it is `0406:00000406`: a language and a layout by their identifiers.
pub(crate) fn is_layout_pair(text: &str) -> bool {
    let hex = |text: &str, len| text.len() == len && text.bytes().all(|byte| byte.is_ascii_hexdigit());
    text.split_once(':').is_some_and(|(language, layout)| hex(language, 4) && hex(layout, 8))
}

/// A keyboard of the neutral form as language and layout identifiers; a bare tag is understood by setup too.
pub(crate) fn layout_pair(keyboard: &str) -> Option<String> {
    if is_layout_pair(keyboard) {
        return Some(keyboard.to_owned());
    }
    if let Some(xkb) = keyboard.strip_prefix("xkb:") {
        let row = keyboards().iter().find(|row| row.xkb == xkb)?;
        return Some(format!("{}:{}", row.language.to_lowercase(), row.layout.to_lowercase()));
    }
    of_tag(keyboard).map(|row| row.tag.to_owned())
}

/// A keyboard of the neutral form as a layout of X, with its variant in parentheses.
pub(crate) fn xkb(keyboard: &str) -> Option<String> {
    if let Some(xkb) = keyboard.strip_prefix("xkb:") {
        return Some(xkb.to_owned());
    }
    if let Some((language, layout)) = keyboard.split_once(':') {
        let same = |row: &&Keyboard| row.layout.eq_ignore_ascii_case(layout);
        let exact = keyboards().iter().filter(same).find(|row| row.language.eq_ignore_ascii_case(language));
        return exact.or_else(|| keyboards().iter().find(same)).map(|row| row.xkb.to_owned());
    }
    of_tag(keyboard).map(|row| row.xkb.to_owned())
}

/// A layout of X as a keyboard of the neutral form: the tag of a language for which it is the usual one, preferring
/// the language that is spoken.
pub(crate) fn keyboard_of_xkb(xkb: &str, spoken: &str) -> String {
    let same = || keyboards().iter().filter(|row| row.xkb == xkb);
    let row = same().find(|row| row.tag.eq_ignore_ascii_case(spoken)).or_else(|| same().next());
    row.map_or_else(|| format!("xkb:{xkb}"), |row| row.tag.to_owned())
}

/// Layout and variant of `us(dvorak)`.
pub(crate) fn split_xkb(xkb: &str) -> (&str, &str) {
    xkb.strip_suffix(')').and_then(|text| text.split_once('(')).unwrap_or((xkb, ""))
}

/// Countries of languages that are written without one: where a system's locale of that language is.
const COUNTRIES: [(&str, &str); 47] = [
    ("ar", "EG"),
    ("be", "BY"),
    ("bg", "BG"),
    ("bs", "BA"),
    ("ca", "ES"),
    ("cs", "CZ"),
    ("cy", "GB"),
    ("da", "DK"),
    ("de", "DE"),
    ("el", "GR"),
    ("en", "US"),
    ("es", "ES"),
    ("et", "EE"),
    ("eu", "ES"),
    ("fa", "IR"),
    ("fi", "FI"),
    ("fr", "FR"),
    ("ga", "IE"),
    ("gl", "ES"),
    ("he", "IL"),
    ("hi", "IN"),
    ("hr", "HR"),
    ("hu", "HU"),
    ("id", "ID"),
    ("is", "IS"),
    ("it", "IT"),
    ("ja", "JP"),
    ("ka", "GE"),
    ("kk", "KZ"),
    ("ko", "KR"),
    ("lt", "LT"),
    ("lv", "LV"),
    ("mk", "MK"),
    ("nb", "NO"),
    ("nl", "NL"),
    ("nn", "NO"),
    ("pl", "PL"),
    ("pt", "PT"),
    ("ro", "RO"),
    ("ru", "RU"),
    ("sk", "SK"),
    ("sl", "SI"),
    ("sr", "RS"),
    ("sv", "SE"),
    ("tr", "TR"),
    ("uk", "UA"),
    ("vi", "VN"),
];

/// `da_DK.UTF-8` of `da-DK`. A language without a country gets that of its locale; a script is said only where it is not
/// the one that the locale has anyway.
pub(crate) fn posix_locale(tag: &str) -> String {
    let mut parts = tag.split('-');
    let language = parts.next().unwrap_or_default().to_lowercase();
    let rest: Vec<&str> = parts.collect();
    let script = rest.iter().find(|part| part.len() == 4).map(|own| own.to_lowercase()).unwrap_or_default();
    let usual = match (language.as_str(), script.as_str()) {
        ("zh", "hant") => Some("TW"),
        ("zh", _) => Some("CN"),
        _ => COUNTRIES.iter().find(|(own, _)| *own == language).map(|(_, country)| *country),
    };
    let country = rest.iter().rfind(|part| part.len() == 2).map(|own| own.to_uppercase());
    let country =
        country.or_else(|| usual.map(str::to_owned)).map(|own| format!("_{own}")).unwrap_or_default();
    // Those with a script of their own are UTF-8 by themselves, and are not found under a name that says so.
    match (language.as_str(), script.as_str(), country.as_str()) {
        ("sr", "latn", "_RS") => "sr_RS@latin".into(),
        ("be", "latn", "_BY") => "be_BY@latin".into(),
        ("uz", "cyrl", "_UZ") => "uz_UZ@cyrillic".into(),
        _ => format!("{language}{country}.UTF-8"),
    }
}

/// `da-DK` of `da_DK.UTF-8`; none for `C` and `POSIX`.
pub(crate) fn tag_of_posix(locale: &str) -> Option<String> {
    let (name, modifier) = locale.split_once('@').unwrap_or((locale, ""));
    let name = name.split('.').next().unwrap_or_default();
    if matches!(name, "" | "C" | "POSIX") {
        return None;
    }
    let (language, country) = name.split_once('_').unwrap_or((name, ""));
    let script = match modifier {
        "latin" => "-Latn",
        "cyrillic" => "-Cyrl",
        _ => "",
    };
    let country = if country.is_empty() { String::new() } else { format!("-{country}") };
    Some(format!("{language}{script}{country}"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn zones_go_there_and_back() {
        assert_eq!(zone_name("Europe/Copenhagen"), Some("Romance Standard Time"));
        assert_eq!(zone_of_name("GMT Standard Time"), Some("Europe/London"));
        assert_eq!(zone_name("Europe/Nowhere"), None);
        for name in zone_names() {
            assert_eq!(zone_of_name(name).and_then(zone_name), Some(name));
        }
    }

    #[test]
    fn keyboards_and_locales_go_there_and_back() {
        assert_eq!(xkb("da-DK").unwrap(), "dk");
        assert_eq!(xkb("0809:00000809").unwrap(), "gb");
        assert_eq!(layout_pair("xkb:gb").unwrap(), "0809:00000809");
        assert_eq!(keyboard_of_xkb("gb", "en-GB"), "en-GB");
        assert_eq!(keyboard_of_xkb("dk", "en-GB"), "da-DK");
        assert_eq!(keyboard_of_xkb("us(dvorak)", "en-US"), "xkb:us(dvorak)");
        assert_eq!(split_xkb("us(dvorak)"), ("us", "dvorak"));
        for (_, tag) in LANGUAGE_NAMES {
            assert!(language_tags().any(|own| own == tag), "{tag}");
        }
        for (word, tag) in [("German", "de-DE"), ("da_DK", "da-DK"), ("norwegain", "nb-NO")] {
            assert_eq!(near_language(word), Some(tag), "{word}");
        }
        let zones = [
            ("Berlin", "Europe/Berlin"),
            ("new york", "America/New_York"),
            ("Europe/Berln", "Europe/Berlin"),
            ("Kopenhagen", "Europe/Copenhagen"),
        ];
        for (word, zone) in zones {
            assert_eq!(near_zone(word), Some(zone), "{word}");
        }
        for tag in language_tags() {
            assert_eq!(tag_of_posix(&posix_locale(tag)).unwrap(), tag);
        }
    }
}
