//! PowerShell.

/// A text as a literal: in single quotes, in which nothing has a meaning but their end. The typographic ones count as
/// quotes too.
#[must_use]
pub fn literal(text: &str) -> String {
    let mut out = String::from("'");
    for c in text.chars() {
        if is_quote(c) {
            out.push(c);
        }
        out.push(c);
    }
    out.push('\'');
    out
}

const fn is_quote(c: char) -> bool {
    matches!(c, '\'' | '\u{2018}' | '\u{2019}' | '\u{201A}' | '\u{201B}')
}

/// The text of the literal in front, and what follows it.
pub(crate) fn of_literal(text: &str) -> Option<(String, &str)> {
    let mut out = String::new();
    let mut rest = text.strip_prefix('\'')?.chars();
    loop {
        let c = rest.next()?;
        if is_quote(c) {
            let after = rest.as_str();
            if !after.starts_with(c) {
                return Some((out, after));
            }
            rest.next();
        }
        out.push(c);
    }
}

/// A script as the argument of `-Command` on a command line.
#[must_use]
pub fn command(script: &str) -> String {
    format!("{COMMAND}{}", super::program::quoted(script))
}

/// The script of a line that [`command`] wrote.
pub(crate) fn of_command(line: &str) -> Option<String> {
    let argument = line.strip_prefix(COMMAND)?;
    let script = super::program::arguments(argument);
    let [script] = script.as_slice() else { return None };
    (command(script) == line).then(|| script.clone())
}

const COMMAND: &str = "powershell.exe -NoProfile -Command ";

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn literals_are_read_as_they_are_written() {
        for text in ["", "plain", "it's", "''", "$x `n", "Seán’s", "a\"b", "‘quoted‛"] {
            assert_eq!(of_literal(&literal(text)), Some((text.to_owned(), "")), "{text}");
            assert_eq!(of_literal(&format!("{}+1", literal(text))), Some((text.to_owned(), "+1")), "{text}");
        }
        assert_eq!(literal("it's"), "'it''s'");
        assert_eq!(of_literal("'open"), None);
        assert_eq!(of_command(&command("say 'a \"b\" c'")), Some("say 'a \"b\" c'".into()));
    }
}
