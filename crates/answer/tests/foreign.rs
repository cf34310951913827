//! Files that people wrote by the published references, not by us: what they mean, what has no word, and that a change
//! leaves the rest as it was.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

use neat_answer::{
    AnswerFile, Change, Dialect, Model, Reading,
    model::{
        Command, EditionChoice, FileSystem, KeyChoice, Licence, PartitionKind, Privacy, Scheme, SecretValue,
        Size, Stage, WhenDone,
    },
    read_file,
};

fn read(dialect: Dialect, text: &str) -> (AnswerFile, Reading) {
    let file = AnswerFile::parse(text.as_bytes()).unwrap();
    assert_eq!(file.dialect, dialect, "{text}");
    let reading = read_file(&file).unwrap();
    (file, reading)
}

/// Fields of what has no word, with their lines.
fn kept(reading: &Reading) -> Vec<(&str, usize)> {
    reading.findings.iter().map(|own| (own.field.as_str(), own.line.unwrap_or(0))).collect()
}

/// The lines that differ after a change.
fn differing(file: &AnswerFile, change: impl FnOnce(&mut Model)) -> Vec<(String, String)> {
    let (bytes, _) = file
        .changed(|model| {
            change(model);
            Ok(())
        })
        .unwrap();
    let new = String::from_utf8(bytes).unwrap();
    let (old, new): (Vec<&str>, Vec<&str>) = (file.text.lines().collect(), new.lines().collect());
    assert_eq!(old.len(), new.len(), "{new:#?}");
    let pairs = old.into_iter().zip(new).filter(|(old, new)| old != new);
    pairs.map(|(old, new)| (old.trim().to_owned(), new.trim().to_owned())).collect()
}

const PRESEED: &str = "\
#_preseed_V1
# The ferry terminal's counters.
d-i debian-installer/language string nb
d-i debian-installer/country string NO
d-i keyboard-configuration/layoutcode string no,us
d-i keyboard-configuration/variantcode string ,dvorak
d-i netcfg/choose_interface select auto
d-i netcfg/get_hostname string counter
d-i netcfg/get_domain string ferries.example
d-i mirror/country string manual
d-i mirror/http/hostname string mirror.ferries.example
d-i mirror/http/directory string /debian
d-i mirror/http/proxy string
d-i clock-setup/utc boolean true
d-i time/zone string Europe/Oslo
d-i clock-setup/ntp boolean true
d-i partman-auto/disk string /dev/sda
d-i partman-auto/method string lvm
d-i passwd/root-login boolean false
d-i passwd/user-fullname string The counter
d-i passwd/username string counter
d-i passwd/user-password-crypted password $6$aa$bb
d-i passwd/user-default-groups string audio video
tasksel tasksel/first multiselect standard, ssh-server
d-i pkgsel/include string openssh-server build-essential \\
    vim
d-i pkgsel/upgrade select none
popularity-contest popularity-contest/participate boolean true
d-i preseed/late_command string in-target apt-get update; in-target sh -c 'echo done'; cp /x /target/y || true
d-i debian-installer/exit/poweroff boolean true
d-i finish-install/reboot_in_progress note
";

#[test]
fn a_preseed_file_of_the_reference() {
    let (file, reading) = read(Dialect::Preseed, PRESEED);
    let model = &reading.model;
    assert_eq!(model.language.setup, "nb-NO");
    assert_eq!(model.language.keyboards, ["nb-NO", "xkb:us(dvorak)"]);
    assert_eq!(model.language.time_zone, "Europe/Oslo");
    assert_eq!((model.machine.name.as_str(), model.machine.domain.as_str()), ("counter", "ferries.example"));
    assert_eq!(model.network.interface, "auto");
    assert_eq!(model.distribution.mirror, "http://mirror.ferries.example/debian");
    assert_eq!(model.software.add, ["build-essential", "vim"]);
    assert!(model.remote.allow, "a shell for people from afar");
    assert_eq!(model.first_start.privacy, Some(Privacy::Accept));
    assert_eq!(model.power.when_done, Some(WhenDone::Off));
    let account = &model.account[0];
    assert_eq!((account.name.as_str(), account.full_name.as_str()), ("counter", "The counter"));
    assert_eq!(account.groups, ["audio", "video"]);
    assert_eq!(reading.vault["account.counter.password"], SecretValue::Hash("$6$aa$bb".into()));
    let commands: Vec<(&str, bool)> =
        model.commands(Stage::SystemInstalled).map(|own| (own.run.as_str(), own.outside)).collect();
    assert_eq!(
        commands,
        [("apt-get update", false), ("echo done", false), ("cp /x /target/y || true", true)]
    );
    let kept = kept(&reading);
    for (question, line) in [("clock-setup/ntp", 16), ("tasksel/first", 24), ("pkgsel/upgrade", 27)] {
        assert!(kept.contains(&(question, line)), "{question}: {kept:?}");
    }
    let changed = differing(&file, |model| model.language.time_zone = "Europe/Paris".into());
    assert_eq!(
        changed,
        [("d-i time/zone string Europe/Oslo".into(), "d-i time/zone string Europe/Paris".into())]
    );
}

const KICKSTART: &str = "\
# The engine room's consoles
lang da_DK.UTF-8
keyboard --vckeymap=dk --xlayouts='dk','us (dvorak)'
timezone Europe/Copenhagen --utc
eula --agreed
text
url --url=http://mirror.ferries.example/os/
repo --name=extra --baseurl=http://mirror.ferries.example/extra
network --bootproto=static --device=enp1s0 --ip=192.0.2.7 --netmask=255.255.255.192 --gateway=192.0.2.1 --nameserver=192.0.2.53,192.0.2.54 --hostname=engine.ferries.example
rootpw --lock
user --name=chief --groups=wheel,dialout --gecos=\"The chief\" --password=$6$aa$bb --iscrypted
ignoredisk --only-use=nvme0n1
clearpart --all --initlabel --disklabel=gpt
part /boot/efi --fstype=efi --size=600
part swap --size=4096
part / --fstype=xfs --size=1024 --grow --label=engine
bootloader --append=\"quiet console=ttyS0\" --boot-drive=nvme0n1
selinux --permissive
services --enabled=sshd,chronyd
reboot --eject

%packages --exclude-weakdeps
@core
vim # an editor
-nano
%end

%post --log=/root/post.log
echo theirs
%end
";

#[test]
fn a_kickstart_file_of_the_reference() {
    let (file, reading) = read(Dialect::Kickstart, KICKSTART);
    let model = &reading.model;
    assert_eq!(model.language.setup, "da-DK");
    assert_eq!(model.language.keyboards, ["da-DK", "xkb:us(dvorak)"]);
    assert_eq!(model.language.time_zone, "Europe/Copenhagen");
    assert_eq!(model.system.licence, Some(Licence::Accept));
    assert_eq!(model.distribution.mirror, "http://mirror.ferries.example/os/");
    assert_eq!(model.distribution.kernel_options, "quiet console=ttyS0");
    assert_eq!(model.distribution.recommends, Some(false));
    assert_eq!((model.machine.name.as_str(), model.machine.domain.as_str()), ("engine", "ferries.example"));
    let fixed = model.network.fixed.as_ref().unwrap();
    assert_eq!((fixed.interface.as_str(), fixed.address.as_str()), ("enp1s0", "192.0.2.7/26"));
    assert_eq!(fixed.name_servers, ["192.0.2.53", "192.0.2.54"]);
    assert_eq!(model.administrator.enabled, Some(false));
    assert_eq!(model.account[0].groups, ["administrators", "dialout"]);
    assert_eq!(reading.vault["account.chief.password"], SecretValue::Hash("$6$aa$bb".into()));
    let disk = &model.disk[0];
    assert_eq!((disk.device.as_str(), disk.wipe, disk.scheme), ("nvme0n1", true, Some(Scheme::Gpt)));
    let parts: Vec<(PartitionKind, Size)> = disk.partition.iter().map(|own| (own.kind, own.size)).collect();
    assert_eq!(
        parts,
        [
            (PartitionKind::Efi, Size::Mib(600)),
            (PartitionKind::Swap, Size::Mib(4096)),
            (PartitionKind::System, Size::Rest)
        ]
    );
    assert_eq!(disk.partition[2].file_system, Some(FileSystem::Xfs));
    assert_eq!(disk.partition[2].label, "engine");
    assert_eq!(model.software.add, ["@core", "vim"]);
    assert_eq!(model.software.remove, ["nano"]);
    assert!(model.remote.allow);
    assert_eq!((model.power.when_done, model.power.leave_disc), (Some(WhenDone::Restart), Some(false)));
    let kept = kept(&reading);
    for (name, line) in [("text", 6), ("repo", 8), ("selinux", 18), ("%post", 28)] {
        assert!(kept.contains(&(name, line)), "{name}: {kept:?}");
    }
    // A section of somebody else's, remarks and what has no word stay where they are.
    let changed = differing(&file, |model| model.language.time_zone = "Europe/Oslo".into());
    assert_eq!(changed.len(), 1, "{changed:?}");
    assert_eq!(changed[0].1, "timezone Europe/Oslo --utc");
}

const AUTOINSTALL: &str = "\
#cloud-config
# Ticket machines
autoinstall:
  version: 1
  locale: sv_SE.UTF-8
  keyboard: {layout: se, variant: ''}
  timezone: Europe/Stockholm
  source:
    id: quay-server
    search_drivers: false
  identity:
    hostname: ticket.ferries.example
    realname: Ticket machine
    username: ticket
    password: $6$aa$bb
  ssh:
    install-server: yes
    allow-pw: false
  network:
    version: 2
    ethernets:
      enp1s0:
        addresses: [192.0.2.9/24]
        gateway4: 192.0.2.1
        nameservers: {addresses: [192.0.2.53]}
  apt:
    mirror-selection:
      primary:
        - uri: http://mirror.ferries.example/os
  kernel:
    package: linux-lowlatency
  packages: [vim, curl]
  snaps:
    - name: hello
  early-commands:
    - echo first
    - [sh, -c, 'echo \"a b\"']
  late-commands:
    - curtin in-target -- apt-get -y purge nano
    - curtin in-target --target=/target -- true
  user-data:
    runcmd:
      - echo once
    timezone: Europe/Stockholm
  shutdown: poweroff
";

#[test]
fn an_autoinstall_file_of_the_reference() {
    let (file, reading) = read(Dialect::Autoinstall, AUTOINSTALL);
    let model = &reading.model;
    assert_eq!(
        (model.language.setup.as_str(), model.language.time_zone.as_str()),
        ("sv-SE", "Europe/Stockholm")
    );
    assert_eq!(model.language.keyboards, ["sv-SE"]);
    assert_eq!(model.system.edition, Some(EditionChoice::Name("quay-server".into())));
    assert_eq!((model.machine.name.as_str(), model.machine.domain.as_str()), ("ticket", "ferries.example"));
    assert_eq!(model.account[0].full_name, "Ticket machine");
    assert_eq!(reading.vault["account.ticket.password"], SecretValue::Hash("$6$aa$bb".into()));
    let fixed = model.network.fixed.as_ref().unwrap();
    assert_eq!((fixed.address.as_str(), fixed.gateway.as_str()), ("192.0.2.9/24", "192.0.2.1"));
    assert_eq!(model.distribution.mirror, "http://mirror.ferries.example/os");
    assert_eq!(model.distribution.kernel, "linux-lowlatency");
    assert_eq!(model.software.add, ["vim", "curl"]);
    let at = |stage| -> Vec<&str> { model.commands(stage).map(|own| own.run.as_str()).collect() };
    assert_eq!(at(Stage::SetupStart), ["echo first", "sh -c 'echo \"a b\"'"]);
    assert_eq!(at(Stage::FirstStart), ["echo once"]);
    assert_eq!(model.power.when_done, Some(WhenDone::Off));
    let kept: Vec<&str> = reading.findings.iter().map(|own| own.field.as_str()).collect();
    for key in ["snaps", "user-data.timezone"] {
        assert!(kept.contains(&key), "{key}: {kept:?}");
    }
    let changed = differing(&file, |model| model.language.time_zone = "Europe/Oslo".into());
    assert_eq!(
        changed,
        [("timezone: Europe/Stockholm".to_owned(), "timezone: Europe/Oslo".to_owned())],
        "the one of user-data is another"
    );
}

const UNATTEND: &str = "\
<?xml version=\"1.0\" encoding=\"utf-8\"?>\r
<!-- Bridge, spring -->\r
<unattend xmlns=\"urn:schemas-microsoft-com:unattend\" xmlns:wcm=\"http://schemas.microsoft.com/WMIConfig/2002/State\">\r
  <settings pass=\"windowsPE\">\r
    <component name=\"Microsoft-Windows-Setup\" processorArchitecture=\"amd64\" publicKeyToken=\"31bf3856ad364e35\" language=\"neutral\" versionScope=\"nonSxS\">\r
      <UserData>\r
        <AcceptEula>true</AcceptEula>\r
        <FullName>Bridge &amp; deck</FullName>\r
        <ProductKey><Key>AAAAA-BBBBB-CCCCC-DDDDD-EEEEE</Key></ProductKey>\r
      </UserData>\r
      <ImageInstall><OSImage><InstallFrom><MetaData wcm:action=\"add\"><Key>/IMAGE/NAME</Key><Value>Quay OS 7 Bridge</Value></MetaData></InstallFrom><WillShowUI>OnError</WillShowUI></OSImage></ImageInstall>\r
      <Diagnostics><OptIn>false</OptIn></Diagnostics>\r
      <RunSynchronous>\r
        <RunSynchronousCommand wcm:action=\"add\"><Order>1</Order><Path>reg add HKLM\\SYSTEM\\Setup\\LabConfig /v BypassTPMCheck /t REG_DWORD /d 1 /f</Path></RunSynchronousCommand>\r
        <RunSynchronousCommand wcm:action=\"add\"><Order>2</Order><Path>wpeutil InitializeNetwork</Path></RunSynchronousCommand>\r
      </RunSynchronous>\r
    </component>\r
  </settings>\r
  <settings pass=\"oobeSystem\">\r
    <component name=\"Microsoft-Windows-Shell-Setup\" processorArchitecture=\"amd64\" publicKeyToken=\"31bf3856ad364e35\" language=\"neutral\" versionScope=\"nonSxS\">\r
      <TimeZone>Romance Standard Time</TimeZone>\r
      <OOBE><HideEULAPage>true</HideEULAPage><ProtectYourPC>3</ProtectYourPC></OOBE>\r
      <FirstLogonCommands>\r
        <SynchronousCommand wcm:action=\"add\"><Order>1</Order><CommandLine>first.cmd</CommandLine><Description>One</Description></SynchronousCommand>\r
        <SynchronousCommand wcm:action=\"add\"><Order>2</Order><CommandLine>second.cmd</CommandLine><RequiresUserInput>true</RequiresUserInput></SynchronousCommand>\r
      </FirstLogonCommands>\r
    </component>\r
  </settings>\r
</unattend>\r
";

#[test]
fn an_unattend_file_of_the_reference() {
    let (file, reading) = read(Dialect::Unattend, UNATTEND);
    let model = &reading.model;
    assert_eq!(model.system.licence, Some(Licence::Accept));
    assert_eq!(model.system.edition, Some(EditionChoice::Name("Quay OS 7 Bridge".into())));
    assert_eq!(model.system.key, Some(KeyChoice::Origin(true)));
    assert_eq!(reading.vault["system.key"], SecretValue::Plain("AAAAA-BBBBB-CCCCC-DDDDD-EEEEE".into()));
    assert_eq!(model.machine.owner, "Bridge & deck");
    assert_eq!(model.waive, [neat_answer::model::Requirement::SecurityChip]);
    assert_eq!(model.first_start.privacy, Some(Privacy::Decline));
    let runs: Vec<(Stage, &str)> = model.command.iter().map(|own| (own.stage, own.run.as_str())).collect();
    assert_eq!(
        runs,
        [
            (Stage::SetupStart, "wpeutil InitializeNetwork"),
            (Stage::FirstSignIn, "first.cmd"),
            (Stage::FirstSignIn, "second.cmd")
        ]
    );
    let fields: Vec<&str> = reading.findings.iter().map(|own| own.field.as_str()).collect();
    assert!(fields.iter().any(|own| own.ends_with("/Diagnostics")), "{fields:?}");
    let changed = differing(&file, |model| model.language.time_zone = "Europe/Athens".into());
    assert_eq!(
        changed,
        [(
            "<TimeZone>Romance Standard Time</TimeZone>".to_owned(),
            "<TimeZone>GTB Standard Time</TimeZone>".to_owned()
        )]
    );
    // A command that comes between two is numbered with them, and what has no word of ours stays with the second.
    let command = Command::new(Stage::FirstSignIn, "between.cmd");
    let (bytes, count, _) =
        file.with_commands(Stage::FirstSignIn, &Change::Insert { command, at: Some(2) }).unwrap();
    let text = String::from_utf8(bytes).unwrap();
    assert_eq!(count, 3);
    let at = |what: &str| text.find(what).unwrap_or_else(|| panic!("{what}: {text}"));
    assert!(at("first.cmd") < at("between.cmd") && at("between.cmd") < at("second.cmd"));
    assert!(
        text.contains("<Order>3</Order><CommandLine>second.cmd</CommandLine><RequiresUserInput>true"),
        "{text}"
    );
    assert_eq!(text.matches('\r').count(), text.matches('\n').count(), "line ends stay");
}
