//! Debian's installer as its packages bring it: its own programs, run on answer files without a machine.

use std::{
    fs,
    path::{Path, PathBuf},
    process::Command,
};

/// Where the package debian-installer-12-netboot-amd64 has the RAM disk.
const INITRD: &str = "/usr/lib/debian-installer/images/12/amd64/text/debian-installer/amd64/initrd.gz";

/// The installer's RAM disk, unpacked, with the program for accounts, which it would fetch.
pub struct Installer {
    dir: tempfile::TempDir,
    system: PathBuf,
}

impl Installer {
    pub fn new(boot_files: &Path) -> Self {
        // Unpacked by .ci/prepare.
        let system = boot_files.join("system").canonicalize().unwrap();
        let own = Self { dir: tempfile::tempdir().unwrap(), system };
        let base = own.base();
        fs::create_dir(&base).unwrap();
        let unpack =
            Command::new("bsdtar").args(["-xf", INITRD, "--exclude", "dev/*", "-C"]).arg(&base).status();
        assert!(unpack.unwrap().success(), "{INITRD} is installed by .ci/prepare");
        let accounts = boot_files.join("user-setup");
        let copy = Command::new("cp").arg("-a").arg(accounts.join("usr")).arg(&base).status().unwrap();
        assert!(copy.success(), "user-setup is unpacked by .ci/prepare");
        let templates = base.join("var/lib/dpkg/info/user-setup-udeb.templates");
        fs::copy(accounts.join("DEBIAN/templates"), templates).unwrap();
        own
    }

    fn base(&self) -> PathBuf {
        self.dir.path().join("base")
    }

    /// What the programs say: words of `language keyboard accounts name apply late who`. With a name, a DHCP server gives it.
    pub fn ask(&self, preseed: &str, programs: &str, dhcp_name: &str) -> String {
        self.ask_with(preseed, programs, dhcp_name, Path::new(""))
    }

    /// The same with a folder that is the media.
    pub fn ask_with(&self, preseed: &str, programs: &str, dhcp_name: &str, media: &Path) -> String {
        let file = tempfile::NamedTempFile::new().unwrap();
        fs::write(file.path(), preseed).unwrap();
        let script = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/support/installer.sh");
        let mut command = Command::new("timeout");
        command
            .args(["--kill-after=2", "300", "sh"])
            .arg(script)
            .arg(self.base())
            .arg(&self.system)
            .arg(file.path());
        command.env("MEDIA", media);
        let output = command.args([programs, dhcp_name]).output().unwrap();
        let said = String::from_utf8_lossy(&output.stdout).into_owned();
        assert!(output.status.success(), "{said}{}", String::from_utf8_lossy(&output.stderr));
        said
    }
}
