//! Commands put in, moved and taken out. Numbers follow from the order.

use crate::model::{Command, Model, Stage};
use neat_content::{Error, Result};

/// Places in the model of the commands of a stage.
fn places(model: &Model, stage: Stage) -> Vec<usize> {
    model.command.iter().enumerate().filter(|(_, own)| own.stage == stage).map(|(index, _)| index).collect()
}

fn place(model: &Model, stage: Stage, number: usize) -> Result<usize> {
    let places = places(model, stage);
    number.checked_sub(1).and_then(|index| places.get(index)).copied().ok_or_else(|| {
        let count = places.len();
        let hint = if count == 0 {
            "it has none".to_owned()
        } else {
            format!("its commands have the numbers 1 to {count}")
        };
        Error::request(format!("the stage {} has no command {number}", stage.name()), hint)
    })
}

/// Puts a command in at a number of its stage, from 1, or at the end; gives its number.
pub fn insert_command(model: &mut Model, command: Command, at: Option<usize>) -> Result<usize> {
    let places = places(model, command.stage);
    let number = at.unwrap_or(places.len() + 1);
    if number == 0 || number > places.len() + 1 {
        return Err(Error::request(
            format!("a command cannot be number {number} at {}", command.stage.name()),
            format!("give a number from 1 to {}", places.len() + 1),
        ));
    }
    let index = places
        .get(number - 1)
        .copied()
        .or_else(|| places.last().map(|last| last + 1))
        .unwrap_or(model.command.len());
    model.command.insert(index, command);
    Ok(number)
}

/// Moves a command of a stage to another number.
pub fn move_command(model: &mut Model, stage: Stage, from: usize, to: usize) -> Result<()> {
    let (from, _) = (place(model, stage, from)?, place(model, stage, to)?);
    let command = model.command.remove(from);
    insert_command(model, command, Some(to)).map(drop)
}

/// Takes a command of a stage out.
pub fn remove_command(model: &mut Model, stage: Stage, number: usize) -> Result<Command> {
    let at = place(model, stage, number)?;
    Ok(model.command.remove(at))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn commands_keep_their_order_when_one_comes_goes_or_moves() {
        let mut model = Model::default();
        let add =
            |model: &mut Model, stage, run: &str, at| insert_command(model, Command::new(stage, run), at);
        add(&mut model, Stage::SetupStart, "x", None).unwrap();
        for run in ["a", "b", "c"] {
            add(&mut model, Stage::FirstSignIn, run, None).unwrap();
        }
        assert_eq!(add(&mut model, Stage::FirstSignIn, "n", Some(2)).unwrap(), 2);
        let order =
            |model: &Model| model.commands(Stage::FirstSignIn).map(|own| own.run.clone()).collect::<String>();
        assert_eq!(order(&model), "anbc");
        move_command(&mut model, Stage::FirstSignIn, 1, 4).unwrap();
        assert_eq!(order(&model), "nbca");
        remove_command(&mut model, Stage::FirstSignIn, 2).unwrap();
        assert_eq!(order(&model), "nca");
        assert!(remove_command(&mut model, Stage::FirstSignIn, 4).is_err());
        assert!(add(&mut model, Stage::FirstSignIn, "z", Some(9)).is_err());
        assert_eq!(model.commands(Stage::SetupStart).count(), 1);
    }
}
