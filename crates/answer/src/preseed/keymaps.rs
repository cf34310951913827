//! The keyboards that the installer offers. Anything else as an answer is silently the first of them.

/// Layouts of X with their variants, as the installer has them (`console-setup-udeb` of Debian 12, question
/// `keyboard-configuration/xkb-keymap`).
const CHOICES: [&str; 84] = [
    "us",
    "al",
    "ara",
    "es(ast)",
    "bd",
    "by",
    "in(ben)",
    "be",
    "dz(la)",
    "ba",
    "br",
    "gb",
    "bg",
    "bg(phonetic)",
    "mm",
    "ca",
    "ca(multi)",
    "es(cat)",
    "cn",
    "hr",
    "cz",
    "dk",
    "nl",
    "us(dvorak)",
    "bt",
    "epo",
    "ee",
    "et",
    "fi",
    "fr(latin9)",
    "ge",
    "de",
    "gr",
    "in(guj)",
    "in(jhelum)",
    "il",
    "in",
    "hu",
    "is",
    "ie",
    "it",
    "jp",
    "in(kan)",
    "kz",
    "kh",
    "kg",
    "kr(kr104)",
    "tr(ku_f)",
    "tr(ku)",
    "la",
    "latam",
    "lv",
    "lt",
    "mk",
    "in(mal)",
    "np",
    "no(smi)",
    "no",
    "ir",
    "ph",
    "pl",
    "pt",
    "in(guru)",
    "ro",
    "ru",
    "rs",
    "pk(snd)",
    "lk",
    "sk",
    "si",
    "es",
    "se",
    "ch(fr)",
    "ch",
    "tj",
    "in(tam)",
    "in(tel)",
    "th",
    "cn(tib)",
    "tr(f)",
    "tr",
    "ua",
    "cn(ug)",
    "vn",
];

/// What the installer takes where it does not know an answer.
pub(super) const FIRST: &str = "us";

/// What is offered under another name, or as a layout that differs in few keys. The installed system gets the layout
/// itself.
const NEAREST: [(&str, &str); 8] = [
    ("fr", "fr(latin9)"),
    ("kr", "kr(kr104)"),
    ("at", "de"),
    ("au", "us"),
    ("nz", "us"),
    ("us(intl)", "us"),
    ("za", "us"),
    ("tw", "us"),
];

/// The installer's choice for a layout of X: itself, what comes nearest, or the layout without its variant.
pub(super) fn of(xkb: &str) -> Option<&'static str> {
    let near = NEAREST.iter().find(|(own, _)| *own == xkb).map(|(_, near)| *near);
    let offered = |wanted: &str| CHOICES.into_iter().find(|own| *own == wanted);
    offered(xkb).or(near).or_else(|| offered(crate::tables::split_xkb(xkb).0))
}

/// The layout of X that a choice stands for.
pub(super) fn layout(choice: &str) -> &str {
    match choice {
        "fr(latin9)" => "fr",
        "kr(kr104)" => "kr",
        choice => choice,
    }
}

/// Whether the installer offers it.
pub(super) fn is_offered(choice: &str) -> bool {
    CHOICES.contains(&choice)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn layouts_are_chosen_as_the_installer_offers_them() {
        assert_eq!(of("gb"), Some("gb"));
        assert_eq!(of("fr"), Some("fr(latin9)"));
        assert_eq!(of("us(dvorak)"), Some("us(dvorak)"));
        assert_eq!(of("at"), Some("de"));
        assert_eq!((of("fo"), of("mt"), of("rs(latin)")), (None, None, Some("rs")));
        for (_, near) in NEAREST {
            assert!(is_offered(near), "{near}");
        }
        assert_eq!(layout("kr(kr104)"), "kr");
    }
}
