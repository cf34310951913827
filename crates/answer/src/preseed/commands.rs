//! The commands of one question: joined to one line, and taken apart again.

use super::{FORMER_NAME, WAYS};
use crate::{
    command_line::sh,
    shell::{self, Line},
};

/// Commands as one question says them: in order, and the first that fails ends it, so that the installer says so. What
/// others wrote gets a shell of its own, as an open comment or list would swallow what follows.
pub(super) fn join(lines: &[Line]) -> String {
    let own = |line: &Line| match line {
        Line::Own { run, wait, outside: true } if !sh::is_simple(run) => {
            Line::Own { run: sh::own_shell(run), wait: *wait, outside: true }.say(&WAYS)
        }
        line => line.say(&WAYS),
    };
    sh::in_order(&lines.iter().map(own).collect::<Vec<_>>())
}

/// What one command of a question means.
pub(super) fn understand(command: &str) -> Line {
    let command = sh::ungrouped(command);
    let (run, wait) = shell::split_unwaited(command);
    match sh::of_own_shell(run) {
        Some(run) => Line::Own { run, wait, outside: true },
        None => Line::understand(command, &WAYS).or_name_of(command, FORMER_NAME),
    }
}

/// Commands of one line: parted by semicolons, or by `&&` where no `||` makes another thing of them.
pub(super) fn split(line: &str) -> Vec<String> {
    let parts = split_at(line, ";").into_iter().flat_map(|part| {
        let is_chain = split_at(&part, "||").len() == 1;
        if is_chain { split_at(&part, "&&") } else { vec![part] }
    });
    let parts: Vec<String> = parts.collect();
    // What belongs together in the shell's own grammar is one command here.
    let is_compound = |part: &String| {
        let word = part.split_whitespace().next().unwrap_or_default();
        matches!(
            word,
            "if" | "then"
                | "else"
                | "elif"
                | "fi"
                | "for"
                | "while"
                | "until"
                | "do"
                | "done"
                | "case"
                | "esac"
        )
    };
    if parts.iter().any(is_compound) {
        return vec![line.trim().to_owned()];
    }
    parts
}

/// A line taken apart at a sign that is neither quoted nor grouped.
fn split_at(line: &str, sign: &str) -> Vec<String> {
    let mut out = Vec::new();
    let mut part = String::new();
    let (mut quote, mut depth, mut escaped) = (None, 0_u32, false);
    let mut passed = 0;
    for (at, c) in line.char_indices() {
        if at < passed {
            continue;
        }
        if escaped {
            escaped = false;
        } else if let Some(own) = quote {
            if c == own {
                quote = None;
            } else if c == '\\' && own == '"' {
                escaped = true;
            }
        } else {
            match c {
                '\\' => escaped = true,
                '\'' | '"' => quote = Some(c),
                '(' | '{' => depth += 1,
                ')' | '}' => depth = depth.saturating_sub(1),
                _ if depth == 0 && line[at..].starts_with(sign) => {
                    out.push(std::mem::take(&mut part));
                    passed = at + sign.len();
                    continue;
                }
                _ => {}
            }
        }
        part.push(c);
    }
    out.push(part);
    out.into_iter().map(|part| part.trim().to_owned()).filter(|part| !part.is_empty()).collect()
}
