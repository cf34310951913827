//! What the libraries advise, in words of the commands.

use neat_content::{Advice, Hint};
use std::borrow::Cow;

/// The words of a hint.
pub(crate) fn words(hint: &Hint) -> Cow<'_, str> {
    let Hint::Advice(advice) = hint else { return Cow::Owned(hint.to_string()) };
    Cow::Borrowed(match advice {
        Advice::DeviceByWay => {
            "write an image file, then `neatstack stick FILE --to DEVICE`, which checks the device"
        }
        Advice::ShowHidden => "`neatstack touchup ISO show PATH` brings it back",
        Advice::ListFiles => "`neatstack files PATH` lists what is there",
        Advice::ListTouchups => "`neatstack touchup ISO list` shows what was done to a disc",
        Advice::UndoTouchup => "`neatstack touchup ISO undo` puts back what was",
        Advice::TakeFiles => "take its files one by one with `neatstack take`",
        Advice::WriteStick => "write it anew with `neatstack stick`",
        Advice::ListEditions => "list them with `neatstack look` or `neatstack editions`",
        Advice::LeaveOutNames => {
            "rename what is named, leave it out with --leave-out, or all of it with --skip-bad-names"
        }
        Advice::RepackFirst => "use a larger limit, or `neatstack repack` with a higher level first",
        Advice::MakeUpdate => "make one with `neatstack update new`",
        Advice::UpdateManifest => {
            "see `neatstack update --help` or `neatstack schema update` for what it holds"
        }
        Advice::AnswerExample => "see `neatstack answer new` for an example, or `neatstack schema answer`",
        Advice::CommandWaits => "commands there are waited for: leave out --no-wait",
        Advice::CommandDoesNotWait => "commands there are not waited for: add --no-wait",
        Advice::ReadAnswers => {
            "the file changed since it was read: read it again with `neatstack answer read`, or take [origin] out"
        }
        Advice::LayoutSchema => "`neatstack schema layout` prints what may stand there",
        Advice::CatalogueSchema => "`neatstack schema catalogue` prints what may stand there",
        Advice::IndexDepot => "make the index with `neatstack depot index FOLDER`",
        Advice::SearchDepot => "`neatstack depot search` lists what it has",
        Advice::ServeDepot => {
            "check the depot's address, and that it is running (`neatstack depot serve FOLDER`)"
        }
        Advice::MorePatience => {
            "the depot answers too slowly; give it more time with --patience, or use another"
        }
        Advice::OtherPort => "choose another port with --port",
        Advice::FixedDisk => "name a stick, or give --fixed if this disk is really meant",
        Advice::ListDevices => "`neatstack stick --list` shows which disk is which",
        Advice::EraseWord(word) => return Cow::Owned(format!("say so with --yes-erase {word}")),
        Advice::InstallTrial => {
            "install QEMU: on Debian and Ubuntu `apt install qemu-system-x86 ovmf`, on Fedora `dnf install \
             qemu-system-x86 edk2-ovmf`; or see what reading tells: `neatstack look MEDIA --boot`"
        }
        Advice::ReportFault => {
            "please report it as SECURITY.md and CONTRIBUTING.md say, with the command and what it was given"
        }
        Advice::OtherName => "give another name, or --replace if it may be overwritten",
        Advice::CheckAll => "`neatstack check PATH` reads everything and says what is damaged",
        other => return other.words(),
    })
}
