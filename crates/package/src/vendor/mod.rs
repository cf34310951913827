//! Vendors' update packages: cabinets with a package manifest inside, cabinets in a cabinet, image files with any of these
//! inside, and programs that carry one. They are read where they lie and staged as they are.

mod identity;
mod manifest;
mod order;
mod read;

pub use identity::Identity;
pub use manifest::{PackageFeature, PackageManifest, Parent};
pub use order::{VendorTarget, order_vendors};
pub use read::{InnerPackage, VendorForm, VendorPackage};
