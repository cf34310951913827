//! Where the installer looks for the file, and how it is known.

use crate::face::{About, AnswersAt, Chooser, Kernel, Rules};

/// Name of the file in a media's root.
const FILE: &str = "autoinst.xml";

pub(super) const ABOUT: About = About {
    places: &[FILE],
    companions: &[],
    kernel: Some(Kernel {
        file: FILE,
        initrd_name: Some(FILE),
        addresses: &["autoinst.xml", "autoyast.xml"],
        always: &[],
        option_for_root: "autoyast=device://sr0/autoinst.xml",
        options,
        source: Some("install="),
    }),
    rules: Rules::LINUX,
    likeness,
    looks_secret,
    is_long: |_| false,
    chooser: || Some(chooser()),
};

fn options(at: &AnswersAt<'_>) -> Vec<String> {
    vec![match at {
        AnswersAt::Initrd => format!("autoyast=file:///{FILE}"),
        AnswersAt::Media { folder, label } => format!("autoyast=label://{label}/{folder}{FILE}"),
        AnswersAt::Address(address) => format!("autoyast={address}"),
    }]
}

fn likeness(text: &str) -> u8 {
    if text.contains("<profile") && text.contains(super::NAMESPACE) { 4 } else { 0 }
}

fn looks_secret(lower: &str) -> bool {
    ["<user_password>", "<wireless_wpa_psk>", "password>"].iter().any(|word| {
        let after = lower.split(word).skip(1);
        after.filter_map(|rest| rest.trim_start().chars().next()).any(|first| first != '<')
    })
}

/// The media has no place of its own while scripts of the installer run, so it is looked for. What is left in the folder
/// of the profile is taken instead of this file.
fn chooser() -> Chooser {
    let (folder, serial) = (Chooser::FOLDER, Chooser::SERIAL);
    let text = format!(
        "<?xml version=\"1.0\"?>
<!DOCTYPE profile>
<!-- Takes the answers of this machine by its serial number; without them a person is asked. -->
<profile xmlns=\"{}\" xmlns:config=\"{}\">
  <scripts>
    <pre-scripts config:type=\"list\">
      <script>
        <filename>neatstack-choose.sh</filename>
        <interpreter>shell</interpreter>
        <source><![CDATA[s={serial}
m=/tmp/neatstack-media
mkdir -p $m
for d in /dev/sr[0-9]* /dev/disk/by-label/*; do
mount -o ro \"$d\" $m 2>/dev/null || continue
if [ -n \"$s\" ] && [ -e \"$m/{folder}/$s.xml\" ]; then
cp \"$m/{folder}/$s.xml\" /tmp/profile/modified.xml
umount $m
break
fi
umount $m
done
]]></source>
      </script>
    </pre-scripts>
  </scripts>
</profile>
",
        super::NAMESPACE,
        super::CONFIG_NAMESPACE
    );
    Chooser::new(".xml", &[(FILE, &text)])
}
