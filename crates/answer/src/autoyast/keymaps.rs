//! Keyboards by the words of the installer's reference.

/// Layout of X with its variant, and the installer's word.
const KEYMAPS: [(&str, &str); 39] = [
    ("us", "english-us"),
    ("gb", "english-uk"),
    ("de(nodeadkeys)", "german"),
    ("de", "german-deadkey"),
    ("ch", "german-ch"),
    ("fr", "french"),
    ("ch(fr)", "french-ch"),
    ("ca", "french-ca"),
    ("es", "spanish"),
    ("latam", "spanish-lat"),
    ("es(ast)", "spanish-ast"),
    ("it", "italian"),
    ("pt", "portugese"),
    ("br", "portugese-br"),
    ("us(intl)", "portugese-br-usa"),
    ("gr", "greek"),
    ("nl", "dutch"),
    ("dk", "danish"),
    ("no", "norwegian"),
    ("se", "swedish"),
    ("fi", "finnish"),
    ("cz", "czech"),
    ("cz(qwerty)", "czech-qwerty"),
    ("sk", "slovak"),
    ("sk(qwerty)", "slovak-qwerty"),
    ("si", "slovene"),
    ("hu", "hungarian"),
    ("pl", "polish"),
    ("ru", "russian"),
    ("rs", "serbian"),
    ("ee", "estonian"),
    ("lt", "lithuanian"),
    ("tr", "turkish"),
    ("hr", "croatian"),
    ("jp", "japanese"),
    ("be", "belgian"),
    ("us(dvorak)", "dvorak"),
    ("is", "icelandic"),
    ("ua", "ukrainian"),
];

/// The installer's word for a layout.
pub(super) fn of(layout: &str) -> Option<&'static str> {
    KEYMAPS.iter().find(|(own, _)| *own == layout).map(|(_, word)| *word)
}

/// The layout of a word; what is no word here is taken for a layout.
pub(super) fn layout(word: &str) -> &str {
    KEYMAPS.iter().find(|(_, own)| *own == word).map_or(word, |(layout, _)| layout)
}
