//! Kinds of discs.

use serde::{Deserialize, Serialize};

macro_rules! kinds {
    ($(#[doc = $doc:literal] $name:ident = $word:literal, $label:literal, $profile:literal;)+) => {
        /// Kind of disc, by the profile that a writer says (MMC-5, 5.3.1).
        #[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
        #[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
        pub enum DiscKind {
            $(#[doc = $doc] #[serde(rename = $word)] $name,)+
        }

        impl DiscKind {
            /// All kinds.
            pub const ALL: &[Self] = &[$(Self::$name,)+];

            /// How people call it.
            #[must_use]
            pub const fn label(self) -> &'static str {
                match self { $(Self::$name => $label,)+ }
            }

            /// Number of its profile.
            #[must_use]
            pub const fn profile(self) -> u16 {
                match self { $(Self::$name => $profile,)+ }
            }
        }
    };
}

kinds! {
    /// A pressed CD.
    CdRom = "cd-rom", "CD-ROM", 0x0008;
    /// A CD that is written once.
    CdR = "cd-r", "CD-R", 0x0009;
    /// A CD that is erased.
    CdRw = "cd-rw", "CD-RW", 0x000A;
    /// A pressed DVD.
    DvdRom = "dvd-rom", "DVD-ROM", 0x0010;
    /// A DVD-R.
    DvdR = "dvd-r", "DVD-R", 0x0011;
    /// A DVD-RAM.
    DvdRam = "dvd-ram", "DVD-RAM", 0x0012;
    /// A DVD-RW that is overwritten.
    DvdRwOver = "dvd-rw-overwrite", "DVD-RW", 0x0013;
    /// A DVD-RW that is written from its beginning to its end.
    DvdRw = "dvd-rw", "DVD-RW", 0x0014;
    /// A DVD-R with two layers.
    DvdRDl = "dvd-r-dl", "DVD-R DL", 0x0015;
    /// A DVD+RW.
    DvdPlusRw = "dvd+rw", "DVD+RW", 0x001A;
    /// A DVD+R.
    DvdPlusR = "dvd+r", "DVD+R", 0x001B;
    /// A DVD+R with two layers.
    DvdPlusRDl = "dvd+r-dl", "DVD+R DL", 0x002B;
    /// A pressed BD.
    BdRom = "bd-rom", "BD-ROM", 0x0040;
    /// A BD-R.
    BdR = "bd-r", "BD-R", 0x0041;
    /// A BD-RE.
    BdRe = "bd-re", "BD-RE", 0x0043;
}

/// How a disc is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Way {
    /// Not at all.
    Never,
    /// A CD: one track, closed, and its session.
    TrackAtOnce,
    /// A DVD-R or -RW: all of the disc, in a track that is reserved first.
    DiscAtOnce,
    /// A DVD+R or BD-R: a track that grows, closed, and the disc.
    Growing,
    /// Wherever one likes, once it is formatted.
    Anywhere,
}

impl DiscKind {
    /// The kind of a profile; nothing where it is one that cannot be written here.
    #[must_use]
    pub fn of_profile(profile: u16) -> Option<Self> {
        Self::ALL.iter().copied().find(|own| own.profile() == profile)
    }

    pub(crate) const fn way(self) -> Way {
        match self {
            Self::CdRom | Self::DvdRom | Self::BdRom => Way::Never,
            Self::CdR | Self::CdRw => Way::TrackAtOnce,
            // One that is overwritten is erased first: then it is written from beginning to end.
            Self::DvdR | Self::DvdRw | Self::DvdRDl | Self::DvdRwOver => Way::DiscAtOnce,
            Self::DvdPlusR | Self::DvdPlusRDl | Self::BdR => Way::Growing,
            Self::DvdPlusRw | Self::DvdRam | Self::BdRe => Way::Anywhere,
        }
    }

    /// Whether it can be written again.
    #[must_use]
    pub const fn is_rewritable(self) -> bool {
        matches!(
            self,
            Self::CdRw | Self::DvdRw | Self::DvdRwOver | Self::DvdPlusRw | Self::DvdRam | Self::BdRe
        )
    }

    /// Whether `BLANK` erases it; others of that sort are overwritten as they are.
    #[must_use]
    pub const fn is_blanked(self) -> bool {
        matches!(self, Self::CdRw | Self::DvdRw | Self::DvdRwOver)
    }

    /// Blocks that are written together: an error correction block of a DVD, a cluster of a BD.
    pub(crate) const fn unit(self) -> u64 {
        match self {
            Self::CdRom | Self::CdR | Self::CdRw => 1,
            Self::BdRom | Self::BdR | Self::BdRe => 32,
            _ => 16,
        }
    }

    /// Kilobytes in a second at the speed that is called 1×.
    #[must_use]
    pub const fn single_speed(self) -> f64 {
        match self {
            Self::CdRom | Self::CdR | Self::CdRw => 176.4,
            Self::BdRom | Self::BdR | Self::BdRe => 4495.5,
            _ => 1385.0,
        }
    }
}
