//! POSIX shell (IEEE Std 1003.1, Shell Command Language 2.2).

/// A text as one word: in single quotes, in which nothing has a meaning but their end. A quote stands in the others, and
/// quotes end and begin again inside of `\n`: debconf takes that for the end of a line, and what follows is lost.
#[must_use]
pub fn quoted(text: &str) -> String {
    format!("'{}'", text.replace('\'', QUOTE).replace("\\n", APART))
}

/// `\n` with the ends of two quoted parts between its signs.
const APART: &str = "\\''n";

/// Ends the quotes, and a quote, and begins them again.
const QUOTE: &str = "'\"'\"'";

/// A text as one word, without quotes where it needs none.
#[must_use]
pub fn word(text: &str) -> String {
    if is_plain(text) { text.to_owned() } else { quoted(text) }
}

fn is_plain(text: &str) -> bool {
    !text.is_empty() && text.chars().all(|c| c.is_ascii_alphanumeric() || "%+,-./:@_".contains(c))
}

/// The text of the word in front that [`quoted`] wrote, and what follows it.
pub(crate) fn unquoted(text: &str) -> Option<(String, &str)> {
    let mut out = String::new();
    let mut rest = text.strip_prefix('\'')?;
    loop {
        let (part, after) = rest.split_once('\'')?;
        out.push_str(part);
        // Others write it with a backslash, as versions before 0.2 did.
        if let Some(more) = after.strip_prefix(&QUOTE[1..]).or_else(|| after.strip_prefix("\\''")) {
            out.push('\'');
            rest = more;
        } else if let Some(more) = after.strip_prefix('\'') {
            rest = more;
        } else {
            return Some((out, after));
        }
    }
}

/// The text of the word in front that [`word`] wrote, and what follows it.
pub(crate) fn read_word(text: &str) -> Option<(String, &str)> {
    if text.starts_with('\'') {
        return unquoted(text);
    }
    let end = text.find(' ').unwrap_or(text.len());
    let (own, rest) = text.split_at(end);
    is_plain(own).then(|| (own.to_owned(), rest))
}

/// A command that prints a text of several lines, itself in one line and without a backslash of its own: some readers of
/// answers cut a value at an escape.
pub(crate) fn printed(text: &str) -> String {
    let mut out = String::from("{ ");
    for line in text.split_inclusive('\n') {
        let own = line.strip_suffix('\n');
        out.push_str(&format!(
            "{PRINTED}{};{}",
            quoted(own.unwrap_or(line)),
            if own.is_some() { LINE_END } else { " " }
        ));
    }
    out + "}"
}

/// The text that [`printed`] was given, and what follows the command.
pub(crate) fn of_printed(line: &str) -> Option<(String, &str)> {
    let mut rest = line.strip_prefix("{ ")?;
    let mut text = String::new();
    while let Some(after) = rest.strip_prefix(PRINTED) {
        let (own, after) = unquoted(after)?;
        text.push_str(&own);
        rest = after.strip_prefix(';')?;
        if let Some(after) = rest.strip_prefix(LINE_END) {
            text.push('\n');
            rest = after;
        } else {
            rest = rest.strip_prefix(' ')?;
        }
    }
    Some((text, rest.strip_prefix('}')?))
}

const PRINTED: &str = "printf %s ";
const LINE_END: &str = " echo; ";

/// A script of its own for a command that somebody else wrote: whatever is open in it (a comment, a list, a quote) ends
/// with it.
pub(crate) fn own_shell(command: &str) -> String {
    format!("{OWN_SHELL} {}", quoted(command))
}

/// What [`own_shell`] was given.
pub(crate) fn of_own_shell(line: &str) -> Option<String> {
    let (command, rest) = unquoted(line.strip_prefix(OWN_SHELL)?.trim_start())?;
    rest.is_empty().then_some(command)
}

const OWN_SHELL: &str = "sh -c";

/// Words that begin or part what the shell's grammar makes of several commands.
const GRAMMAR: [&str; 16] = [
    "if", "then", "else", "elif", "fi", "for", "while", "until", "do", "done", "case", "esac", "in",
    "function", "exec", "exit",
];

/// Whether a command is one program with plain words, which may stand beside others as it is.
pub(crate) fn is_simple(command: &str) -> bool {
    let words: Vec<&str> = command.split(' ').collect();
    // Words of the grammar, and assignments, are no programs.
    let first = words.first().copied().unwrap_or_default();
    words.iter().all(|word| is_plain(word)) && !GRAMMAR.contains(&first)
}

/// What is wrong with a line of several commands that a shell gets as one: each is a sentence for a person.
pub(crate) fn faults(line: &str) -> Vec<&'static str> {
    let mut faults = Vec::new();
    let (mut quote, mut depth, mut is_word_start) = (None, 0_i32, true);
    let mut chars = line.char_indices();
    while let Some((at, c)) = chars.next() {
        match (quote, c) {
            (Some('"') | None, '\\') => drop(chars.next()),
            (Some(own), c) if c == own => quote = None,
            (None, '\'' | '"') => quote = Some(c),
            (None, '#') if is_word_start => {
                if !line[at..].trim_end_matches('#').is_empty() && !line[at..].contains('\n') {
                    faults.push("everything behind `#` is a remark, to the end of the line");
                }
                break;
            }
            (None, '(' | '{') => depth += 1,
            (None, ')' | '}') => depth -= 1,
            (None, '&') => {
                let rest = line[at + 1..].trim_start_matches(' ');
                let is_and = line[at + 1..].starts_with('&') || line[..at].ends_with(['&', '>', '<']);
                if !is_and && rest.starts_with([';', '|', '&']) {
                    faults.push(
                        "behind `&` no `;` and no other sign may stand: the shell refuses the whole line",
                    );
                }
            }
            _ => {}
        }
        is_word_start = quote.is_none() && (c.is_whitespace() || ";&|()".contains(c));
    }
    if quote.is_some() {
        faults.push("a quote stays open: the shell refuses the whole line");
    } else if depth != 0 && !line.contains("esac") {
        // The patterns of `case` have brackets that nothing opened.
        faults.push("brackets do not match");
    }
    faults
}

/// Commands one after another: each waits for the one before, and one that fails ends the line with its exit code.
pub(crate) fn in_order(commands: &[String]) -> String {
    let group = |command: &String| {
        // A command that is not waited for ends with the sign that also parts commands.
        if command.ends_with('&') { format!("{{ {command} }}") } else { command.clone() }
    };
    match commands {
        [only] => only.clone(),
        all => all.iter().map(group).collect::<Vec<_>>().join(IN_ORDER),
    }
}

/// Between commands that run [`in_order`].
pub(crate) const IN_ORDER: &str = " && ";

/// A command without the braces that [`in_order`] may have put around it.
pub(crate) fn ungrouped(command: &str) -> &str {
    let inside = command.strip_prefix("{ ").and_then(|rest| rest.strip_suffix(" }"));
    inside.filter(|inside| inside.ends_with('&')).unwrap_or(command)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_are_quoted_only_where_they_need_it() {
        for plain in ["a", "/usr/bin/env", "user@host:22", "1.5%"] {
            assert_eq!(word(plain), plain);
        }
        for (text, expected) in [
            ("", "''"),
            ("a b", "'a b'"),
            ("it's", "'it'\"'\"'s'"),
            ("#", "'#'"),
            ("~", "'~'"),
            ("a=b", "'a=b'"),
        ] {
            assert_eq!(word(text), expected);
            assert_eq!(unquoted(expected), Some((text.to_owned(), "")));
        }
        assert_eq!(unquoted("'open"), None);
        assert_eq!(unquoted("'a' b"), Some(("a".into(), " b")));
    }

    #[test]
    fn what_is_not_waited_for_does_not_end_the_line() {
        let all = ["a".to_owned(), "b &".to_owned(), "c".to_owned()];
        assert_eq!(in_order(&all), "a && { b & } && c");
        assert_eq!(in_order(&all[1..2]), "b &");
        assert_eq!(ungrouped("{ b & }"), "b &");
        assert_eq!(ungrouped("{ a; b; }"), "{ a; b; }");
    }

    #[test]
    fn faults_of_a_line_are_seen() {
        for sound in [
            "a; b && c || d",
            "{ a & } && b",
            "a >b 2>&1; c",
            "echo 'a & ; #'",
            "x=$#; y",
            "a & b",
            "a \\& ; b",
            "( a ); b",
            "a &",
        ] {
            assert_eq!(faults(sound), [""; 0], "{sound}");
        }
        for (line, word) in [
            ("a &; b", "refuses"),
            ("a & ; b", "refuses"),
            ("a & && b", "refuses"),
            ("a # first; b", "remark"),
            ("#a; b", "remark"),
            ("echo 'a; b", "quote"),
            ("echo \"a\\\"; b", "quote"),
            ("( a; b", "brackets"),
        ] {
            assert!(
                faults(line).first().is_some_and(|fault| fault.contains(word)),
                "{line}: {:?}",
                faults(line)
            );
        }
    }

    #[test]
    fn only_a_program_with_plain_words_is_simple() {
        for simple in ["apt-get update", "cp /cdrom/x /target/y", "true"] {
            assert!(is_simple(simple), "{simple}");
        }
        for other in ["", "a; b", "a # b", "a  b", "if a", "exit 1", "x=1 y", "a 'b'", "a|b", "a\nb", "a *"] {
            assert!(!is_simple(other), "{other}");
        }
        assert_eq!(of_own_shell(&own_shell("a # 'b'")), Some("a # 'b'".into()));
    }
}
