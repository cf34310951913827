//! The names of the dialects of answer files. What each can do is in the folder of its name; `registry.rs` joins the two.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

macro_rules! dialects {
    ($(#[doc = $doc:literal] $name:ident = $word:literal,)+) => {
        /// Kind of answer file.
        #[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize, JsonSchema)]
        #[serde(rename_all = "kebab-case")]
        pub enum Dialect {
            $(#[doc = $doc] $name,)+
        }

        impl Dialect {
            /// All of them.
            pub const ALL: &[Self] = &[$(Self::$name,)+];

            /// What people call it.
            pub const fn name(self) -> &'static str {
                match self {
                    $(Self::$name => $word,)+
                }
            }

            /// What it is, in a few words.
            pub fn description(self) -> &'static str {
                let words = match self {
                    $(Self::$name => $doc,)+
                };
                words.trim().trim_end_matches('.')
            }
        }
    };
}

dialects! {
    /// The documented XML of install images.
    Unattend = "unattend",
    /// Debian's installer.
    Preseed = "preseed",
    /// Kickstart.
    Kickstart = "kickstart",
    /// cloud-init's autoinstall.
    Autoinstall = "autoinstall",
    /// AutoYaST, of the SUSE family's installer.
    Autoyast = "autoyast",
    /// INI text of the generation before image files.
    Sif = "sif",
}

impl Dialect {
    /// What a model is written in when nothing is said.
    pub const OF_MODELS: Self = Self::Unattend;
    /// What a model is written in beside a kernel when nothing is said; also what is fetched from an address whose name
    /// shows nothing.
    pub const OF_KERNELS: Self = Self::Preseed;
}
