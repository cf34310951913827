//! What readers of TOML say, in the words of people who write it.

/// Terms of the reading library, and what people call them.
const TERMS: [(&str, &str); 9] = [
    ("invalid type: map", "wrong kind of value: a table"),
    ("invalid type: sequence", "wrong kind of value: a list"),
    ("invalid type: ", "wrong kind of value: "),
    ("expected a map", "expected a table"),
    ("expected a sequence", "expected a list"),
    ("expected a boolean", "expected true or false"),
    ("unknown variant ", "unknown value "),
    ("missing field ", "missing key "),
    ("unknown field ", "unknown key "),
];
const STRUCT: &str = "expected struct ";

/// The first line of `message` without the names of types in our program.
pub fn plain_toml(message: &str) -> String {
    let mut text = message.lines().next().unwrap_or_default().trim_end().to_owned();
    for (term, word) in TERMS {
        text = text.replace(term, word);
    }
    while let Some(at) = text.find(STRUCT) {
        let name = at + STRUCT.len();
        let end = text[name..].find(|c: char| !c.is_alphanumeric()).map_or(text.len(), |len| name + len);
        text.replace_range(at..end, "expected a table");
    }
    text
}

#[cfg(test)]
mod tests {
    use super::plain_toml;

    #[test]
    fn no_word_of_the_program_is_left() {
        for (message, wanted) in [
            (
                "invalid type: string \"x.img\", expected struct StickSection",
                "wrong kind of value: string \"x.img\", expected a table",
            ),
            ("invalid type: map, expected a sequence", "wrong kind of value: a table, expected a list"),
            (
                "unknown variant `gtp`, expected `gpt` or `mbr`",
                "unknown value `gtp`, expected `gpt` or `mbr`",
            ),
            ("missing field `image`\n", "missing key `image`"),
            ("expected struct A or expected struct B", "expected a table or expected a table"),
            ("", ""),
        ] {
            assert_eq!(plain_toml(message), wanted);
        }
    }
}
