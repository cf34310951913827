//! Arguments as programs of the served systems take a command line apart.
//!
//! A program gets one line and takes it apart itself; nearly all do it by the rules of the C runtime: blanks part,
//! quotes keep together, backslashes count only before a quote.

/// An argument in quotes; quotes in it and the backslashes before them are escaped.
#[must_use]
pub fn quoted(text: &str) -> String {
    let mut out = String::from("\"");
    let mut slashes = 0;
    for c in text.chars() {
        match c {
            '\\' => slashes += 1,
            '"' => {
                out.extend(std::iter::repeat_n('\\', slashes + 1));
                slashes = 0;
            }
            _ => slashes = 0,
        }
        out.push(c);
    }
    out.extend(std::iter::repeat_n('\\', slashes));
    out.push('"');
    out
}

/// The arguments of a line.
#[must_use]
pub fn arguments(line: &str) -> Vec<String> {
    let mut out = Vec::new();
    let (mut word, mut started, mut inside, mut slashes) = (String::new(), false, false, 0);
    for c in line.chars() {
        if c == '\\' {
            slashes += 1;
            started = true;
            continue;
        }
        if c == '"' {
            word.extend(std::iter::repeat_n('\\', slashes / 2));
            if slashes % 2 == 1 {
                word.push('"');
            } else {
                inside = !inside;
            }
            slashes = 0;
            started = true;
            continue;
        }
        word.extend(std::iter::repeat_n('\\', slashes));
        slashes = 0;
        if c.is_whitespace() && !inside {
            if started {
                out.push(std::mem::take(&mut word));
            }
            started = false;
        } else {
            word.push(c);
            started = true;
        }
    }
    word.extend(std::iter::repeat_n('\\', slashes));
    if started {
        out.push(word);
    }
    out
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]
    use super::{arguments, quoted};
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn what_is_quoted_is_taken_apart_again(words in prop::collection::vec("[^\0\r\n]{0,24}", 1..6)) {
            let line: Vec<String> = words.iter().map(|word| quoted(word)).collect();
            prop_assert_eq!(arguments(&line.join(" ")), words);
        }
    }

    #[test]
    fn lines_of_people_are_taken_apart() {
        assert_eq!(arguments(r#"a "b c" d\"e \\f "g\\" h"#), ["a", "b c", "d\"e", "\\\\f", "g\\", "h"]);
        assert_eq!(arguments("  "), [""; 0]);
        assert_eq!(arguments("\"\" x"), ["", "x"]);
    }
}
