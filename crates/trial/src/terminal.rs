//! Text without what steers a terminal.

/// Where in a control sequence the text stands (ECMA-48 5.4).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
enum State {
    #[default]
    Text,
    /// Behind an escape character.
    Escape,
    /// In a control sequence.
    Sequence,
}

/// Takes control sequences out of text that comes in pieces.
#[derive(Debug, Default)]
pub(crate) struct Terminal {
    state: State,
}

impl Terminal {
    /// The text of `bytes`. Moving to another place begins a line.
    pub(crate) fn plain(&mut self, bytes: &[u8]) -> String {
        let mut out = String::new();
        for c in String::from_utf8_lossy(bytes).chars() {
            match (self.state, c) {
                (State::Text, '\u{1b}') => self.state = State::Escape,
                (State::Text, _) => out.push(c),
                (State::Escape, '[') => self.state = State::Sequence,
                (State::Escape, _) => self.state = State::Text,
                (State::Sequence, '@'..='~') => {
                    if matches!(c, 'H' | 'f' | 'J') {
                        out.push('\n');
                    }
                    self.state = State::Text;
                }
                (State::Sequence, _) => {}
            }
        }
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn control_sequences_go_even_when_they_come_in_pieces() {
        let mut terminal = Terminal::default();
        let pieces = [&b"\x1b[2J\x1b[01;0"[..], b"1HQuay\x1b[0", b";37m OS\x1b7 7\r\n"];
        let text: String = pieces.iter().map(|piece| terminal.plain(piece)).collect();
        assert_eq!(text, "\n\nQuay OS 7\r\n");
    }
}
