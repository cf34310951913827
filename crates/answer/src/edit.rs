//! Commands put in, moved and taken out. Numbers follow from the order.

use crate::{
    AnswerFile, Finding,
    model::{Command, Model, Stage},
};
use neat_content::{Error, Result};

/// A change to the commands of a stage, by their numbers from 1.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Change {
    /// One comes, at a number or at the end.
    Insert {
        /// The command.
        command: Command,
        /// Its number.
        at: Option<usize>,
    },
    /// One gets another number.
    Move {
        /// Its number.
        from: usize,
        /// The number that it gets.
        to: usize,
    },
    /// One goes.
    Remove {
        /// Its number.
        number: usize,
    },
}

impl Change {
    /// Does it to a list.
    pub(crate) fn apply<T>(
        &self,
        list: &mut Vec<T>,
        stage: Stage,
        own: impl Fn(&Command) -> T,
    ) -> Result<()> {
        let count = list.len();
        let index = |number: usize, last: usize| {
            number.checked_sub(1).filter(|index| *index < last).ok_or_else(|| {
                let hint = match last {
                    0 => "it has none".to_owned(),
                    last => format!("give a number from 1 to {last}"),
                };
                Error::request(format!("the stage {} has no command {number}", stage.name()), hint)
            })
        };
        match self {
            Self::Insert { command, at } => {
                list.insert(index(at.unwrap_or(count + 1), count + 1)?, own(command));
            }
            Self::Move { from, to } => {
                let (from, to) = (index(*from, count)?, index(*to, count)?);
                let moved = list.remove(from);
                list.insert(to, moved);
            }
            Self::Remove { number } => {
                list.remove(index(*number, count)?);
            }
        }
        Ok(())
    }
}

/// Changes the commands of a stage in a model; gives how many there are then.
///
/// # Errors
/// `BadRequest` for a number that the stage does not have, or a command that cannot be.
pub fn change_commands(model: &mut Model, stage: Stage, change: &Change) -> Result<usize> {
    let mut own: Vec<Command> = model.commands(stage).cloned().collect();
    change.apply(&mut own, stage, Clone::clone)?;
    // The commands of a stage stay where the first of them stood.
    let place =
        model.command.iter().position(|command| command.stage == stage).unwrap_or(model.command.len());
    model.command.retain(|command| command.stage != stage);
    let place = place.min(model.command.len());
    let count = own.len();
    model.command.splice(place..place, own);
    Ok(count)
}

impl AnswerFile {
    /// The file's bytes with the commands of a stage changed, how many there are then, and what its dialect cannot say
    /// of it.
    ///
    /// # Errors
    /// `BadRequest` for a number that the stage does not have; `Corrupt` for a file that cannot be read.
    pub fn with_commands(&self, stage: Stage, change: &Change) -> Result<(Vec<u8>, usize, Vec<Finding>)> {
        if let Some(changed) = self.dialect.face().change_commands(&self.text, stage, change) {
            let (text, count) = changed?;
            return Ok((self.to_bytes(&text), count, Vec::new()));
        }
        let mut count = 0;
        let (bytes, findings) = self.changed(|model| {
            count = change_commands(model, stage, change)?;
            Ok(())
        })?;
        Ok((bytes, count, findings))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn commands_keep_their_order_when_one_comes_goes_or_moves() {
        let mut model = Model::default();
        let add = |model: &mut Model, stage, run: &str, at| {
            change_commands(model, stage, &Change::Insert { command: Command::new(stage, run), at })
        };
        add(&mut model, Stage::SetupStart, "x", None).unwrap();
        for run in ["a", "b", "c"] {
            add(&mut model, Stage::FirstSignIn, run, None).unwrap();
        }
        assert_eq!(add(&mut model, Stage::FirstSignIn, "n", Some(2)).unwrap(), 4);
        let order =
            |model: &Model| model.commands(Stage::FirstSignIn).map(|own| own.run.clone()).collect::<String>();
        assert_eq!(order(&model), "anbc");
        change_commands(&mut model, Stage::FirstSignIn, &Change::Move { from: 1, to: 4 }).unwrap();
        assert_eq!(order(&model), "nbca");
        change_commands(&mut model, Stage::FirstSignIn, &Change::Remove { number: 2 }).unwrap();
        assert_eq!(order(&model), "nca");
        assert!(change_commands(&mut model, Stage::FirstSignIn, &Change::Remove { number: 4 }).is_err());
        assert!(add(&mut model, Stage::FirstSignIn, "z", Some(9)).is_err());
        assert_eq!(model.commands(Stage::SetupStart).count(), 1);
    }
}
