//! What a person can do about an error. A library knows no commands: where one would help, it names an advice, and
//! whoever has commands words it.

use std::{borrow::Cow, fmt};

/// What a person can do about something.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Hint {
    /// A sentence without a full stop; empty when there is nothing to add.
    Words(Cow<'static, str>),
    /// Something that the program around the library can say better.
    Advice(Advice),
}

/// Advices that name what a program offers.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Advice {
    /// Write an image file, and then that to the device.
    DeviceByWay,
    /// Bring a hidden path back.
    ShowHidden,
    /// List the files that are there.
    ListFiles,
    /// List the touch-ups of a disc.
    ListTouchups,
    /// Take the disc's touch-up back, which also mends one that was cut off.
    UndoTouchup,
    /// Take files one by one instead of the whole media.
    TakeFiles,
    /// Write the stick anew.
    WriteStick,
    /// List the editions.
    ListEditions,
    /// Leave names out of a capture.
    LeaveOutNames,
    /// Compress the image file harder first.
    RepackFirst,
    /// Make an update package anew.
    MakeUpdate,
    /// See what a manifest of an update holds.
    UpdateManifest,
    /// See an example of answers, or their schema.
    AnswerExample,
    /// Commands of this stage are waited for.
    CommandWaits,
    /// Commands of this stage are not waited for.
    CommandDoesNotWait,
    /// Read the answer file again.
    ReadAnswers,
    /// See what a layout may hold.
    LayoutSchema,
    /// See what a catalogue may hold.
    CatalogueSchema,
    /// Make the depot's index anew.
    IndexDepot,
    /// Search the depot.
    SearchDepot,
    /// Check that the depot is served.
    ServeDepot,
    /// Give the depot more time.
    MorePatience,
    /// Serve at another port.
    OtherPort,
    /// A disk that is built in must be meant.
    FixedDisk,
    /// List the devices.
    ListDevices,
    /// The word with which a device may be erased.
    EraseWord(String),
    /// Install the virtual machine, or let the media be read.
    InstallTrial,
    /// Tell the makers.
    ReportFault,
    /// Give another name, or allow that what is there is replaced.
    OtherName,
    /// Read the whole media or image file and say what is damaged.
    CheckAll,
}

impl Advice {
    /// In words that name no command.
    pub fn words(&self) -> Cow<'static, str> {
        Cow::Borrowed(match self {
            Self::DeviceByWay => "write an image file, and then that to the device",
            Self::ShowHidden => "show it again first",
            Self::ListFiles => "look at the list of files",
            Self::ListTouchups => "look at the list of touch-ups",
            Self::UndoTouchup => "take the latest touch-up back",
            Self::TakeFiles => "take its files one by one",
            Self::WriteStick => "write the stick anew",
            Self::ListEditions => "look at the list of editions",
            Self::LeaveOutNames => "rename what is named, or leave it out",
            Self::RepackFirst => "use a larger limit, or compress harder first",
            Self::MakeUpdate => "make the package anew from its folder",
            Self::UpdateManifest => "see the schema of update packages",
            Self::AnswerExample => "see the schema of answers",
            Self::CommandWaits => "commands there are waited for",
            Self::CommandDoesNotWait => "commands there are not waited for",
            Self::ReadAnswers => "the file changed since it was read: read it again, or take [origin] out",
            Self::LayoutSchema => "see the schema of layouts",
            Self::CatalogueSchema => "see the schema of catalogues",
            Self::IndexDepot => "make the depot's index anew",
            Self::SearchDepot => "look at what the depot has",
            Self::ServeDepot => "check the depot's address, and that it is running",
            Self::MorePatience => "the depot answers too slowly; give it more time, or use another",
            Self::OtherPort => "choose another port",
            Self::FixedDisk => "name a stick, or say that this disk is really meant",
            Self::ListDevices => "look at the list of disks",
            Self::EraseWord(word) => return Cow::Owned(format!("confirm it with the word {word}")),
            Self::InstallTrial => "install QEMU and firmware for it",
            Self::ReportFault => "please report this, with what you did",
            Self::OtherName => "give another name, or allow that it is replaced",
            Self::CheckAll => "let all of it be read and checked",
        })
    }
}

impl Hint {
    /// Whether there is nothing to say.
    pub fn is_empty(&self) -> bool {
        matches!(self, Self::Words(words) if words.is_empty())
    }
}

impl Default for Hint {
    fn default() -> Self {
        Self::Words(Cow::Borrowed(""))
    }
}

impl fmt::Display for Hint {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Words(words) => f.write_str(words),
            Self::Advice(advice) => f.write_str(&advice.words()),
        }
    }
}

impl From<&'static str> for Hint {
    fn from(words: &'static str) -> Self {
        Self::Words(Cow::Borrowed(words))
    }
}

impl From<String> for Hint {
    fn from(words: String) -> Self {
        Self::Words(Cow::Owned(words))
    }
}

impl From<Advice> for Hint {
    fn from(advice: Advice) -> Self {
        Self::Advice(advice)
    }
}

impl From<Hint> for String {
    fn from(hint: Hint) -> Self {
        hint.to_string()
    }
}
