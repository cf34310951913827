//! What files erase without a question, however they say it: one that is missed costs somebody a disk.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

use neat_answer::{
    AnswerFile, Dialect, Model, Secrets, check_file, check_model, check_written,
    model::{Carried, Command, Script, Stage},
    write_model,
};

/// What a file erases and what a person is asked before.
fn erases(dialect: Dialect, text: &str) -> (Vec<String>, Vec<String>) {
    let file = AnswerFile::parse_as(text.as_bytes(), Some(dialect)).unwrap();
    let erasure = check_file(&file, None).erasure;
    (erasure.what, erasure.asked)
}

fn assert_erases(dialect: Dialect, text: &str, what: &[&str], asked: &[&str]) {
    let found = erases(dialect, text);
    assert_eq!(
        (found.0.as_slice(), found.1.as_slice()),
        (
            what.iter().map(|own| (*own).to_owned()).collect::<Vec<_>>().as_slice(),
            asked.iter().map(|own| (*own).to_owned()).collect::<Vec<_>>().as_slice(),
        ),
        "{text}"
    );
}

#[test]
fn preseed() {
    let sound = "d-i partman-auto/disk string /dev/sda\nd-i partman-auto/method string lvm\nd-i partman/confirm boolean true\nd-i partman/confirm_nooverwrite boolean true\n";
    assert_erases(Dialect::Preseed, sound, &["everything on sda"], &[]);
    for (from, to, what, asked) in [
        ("d-i partman/confirm boolean true\n", "", &[][..], &[][..]),
        ("d-i partman/confirm boolean true", "d-i partman/confirm boolean false", &[], &[]),
        ("d-i partman-auto/method string lvm\n", "", &[], &[]),
        (
            "nooverwrite boolean true",
            "nooverwrite boolean false",
            &["everything on sda"],
            &["whether to write the changes"],
        ),
        (
            "d-i partman-auto/disk string /dev/sda\n",
            "",
            &["everything on the disk"],
            &["which disk, if there are several"],
        ),
    ] {
        assert!(sound.contains(from));
        assert_erases(Dialect::Preseed, &sound.replacen(from, to, 1), what, asked);
    }
    for command in [
        "wipefs -a /dev/sda",
        "dd if=/dev/zero of=/dev/sda bs=1M",
        "/sbin/mkfs.ext4 -F /dev/sda1",
        "true; sfdisk /dev/sda </x",
        "in-target sh -c 'blkdiscard /dev/nvme0n1'",
    ] {
        for question in ["preseed/early_command", "partman/early_command", "preseed/late_command"] {
            let (what, _) = erases(Dialect::Preseed, &format!("d-i {question} string {command}\n"));
            assert_eq!(what.len(), 1, "{command}: {what:?}");
            assert!(what[0].starts_with("what the command"), "{what:?}");
        }
    }
    for command in ["echo dd", "dd if=/dev/sda of=/target/root/x", "cat /proc/partitions", "format.sh"] {
        assert_erases(Dialect::Preseed, &format!("d-i preseed/late_command string {command}\n"), &[], &[]);
    }
}

#[test]
fn kickstart() {
    for (text, what) in [
        ("clearpart --all --drives=sda\n", &["everything on sda"][..]),
        ("clearpart --linux --drives=sda,sdb\n", &["the Linux partitions on sda,sdb"]),
        ("clearpart --all\n", &["everything on every disk it sees"]),
        ("clearpart --none\n", &[]),
        ("lang en_GB\n", &[]),
        ("%pre\nsgdisk -Z /dev/sda\n%end\n", &["what the command `sgdisk -Z /dev/sda` erases"]),
        ("%post --nochroot\nshred /dev/sdb\n%end\n", &["what the command `shred /dev/sdb` erases"]),
    ] {
        assert_erases(Dialect::Kickstart, text, what, &[]);
    }
}

#[test]
fn autoinstall() {
    let front = "#cloud-config\nautoinstall:\n  version: 1\n";
    for (text, what, asked) in [
        ("", &["everything on the largest disk, because nothing is said of disks"][..], &[][..]),
        ("  storage: {layout: {name: lvm}}\n", &["everything on the largest disk"], &[]),
        ("  storage: {layout: {name: lvm, match: {path: /dev/sdb}}}\n", &["everything on sdb"], &[]),
        (
            "  storage: {config: [{type: disk, id: a, path: /dev/sda, wipe: superblock}]}\n",
            &["everything on sda"],
            &[],
        ),
        ("  storage: {config: [{type: disk, id: a, path: /dev/sda}]}\n", &[], &[]),
        ("  interactive-sections: [storage]\n", &[], &[]),
        ("  interactive-sections: ['*']\n", &[], &[]),
        (
            "  interactive-sections: [identity]\n  storage: {layout: {name: direct}}\n",
            &["everything on the largest disk"],
            &["identity"],
        ),
        (
            "  storage: {config: []}\n  early-commands: [[wipefs, -a, /dev/sda]]\n",
            &["what the command `wipefs -a /dev/sda` erases"],
            &[],
        ),
    ] {
        assert_erases(Dialect::Autoinstall, &format!("{front}{text}"), what, asked);
    }
}

#[test]
fn unattend() {
    let setup = |inside: &str| {
        format!(
            "<unattend xmlns=\"urn:schemas-microsoft-com:unattend\"><settings pass=\"windowsPE\">\
             <component name=\"Microsoft-Windows-International-Core-WinPE\" processorArchitecture=\"amd64\">\
             <SetupUILanguage><UILanguage>en-GB</UILanguage></SetupUILanguage><UILanguage>en-GB</UILanguage></component>\
             <component name=\"Microsoft-Windows-Setup\" processorArchitecture=\"amd64\"><UserData><AcceptEula>true</AcceptEula></UserData>{inside}</component>\
             </settings></unattend>"
        )
    };
    let disk = |inside: &str| {
        setup(&format!("<DiskConfiguration><Disk><DiskID>1</DiskID>{inside}</Disk></DiskConfiguration>"))
    };
    let command = |run: &str| {
        setup(&format!(
            "<RunSynchronous><RunSynchronousCommand><Order>1</Order><Path>{run}</Path></RunSynchronousCommand></RunSynchronous>"
        ))
    };
    let wipe = "<WillWipeDisk>true</WillWipeDisk>";
    let format = "<WillWipeDisk>false</WillWipeDisk><ModifyPartitions><ModifyPartition><Order>1</Order><PartitionID>3</PartitionID><Format>NTFS</Format></ModifyPartition><ModifyPartition><Order>2</Order><PartitionID>4</PartitionID></ModifyPartition></ModifyPartitions>";
    for (text, what) in [
        (setup(""), &[][..]),
        (disk(wipe), &["everything on disk 1"]),
        (disk(&wipe.replace("true", "1")), &["everything on disk 1"]),
        (disk(format), &["partition 3 of disk 1"]),
        (disk("<WillWipeDisk>false</WillWipeDisk>"), &[]),
        (
            command("cmd.exe /c diskpart /s X:\\d.txt"),
            &["what the command `cmd.exe /c diskpart /s X:\\d.txt` erases"],
        ),
        (command("format.com"), &[]),
        (command("cmd /c format d: /q"), &["what the command `cmd /c format d: /q` erases"]),
        (command("powershell Clear-Disk 0"), &["what the command `powershell Clear-Disk 0` erases"]),
    ] {
        assert_erases(Dialect::Unattend, &text, what, &[]);
    }
    // Who is asked anything at all can still stop it.
    let asking = disk(wipe).replace("<UserData><AcceptEula>true</AcceptEula></UserData>", "");
    assert_erases(Dialect::Unattend, &asking, &["everything on disk 1"], &["the licence"]);
    let silent = disk(wipe).replace("<UILanguage>en-GB</UILanguage>", "");
    assert_erases(Dialect::Unattend, &silent, &["everything on disk 1"], &["the language"]);
}

#[test]
fn what_a_script_erases_is_seen_however_it_is_carried() {
    let line = "mkfs.ext4 /dev/sdb1";
    let script = |name: &str, stage| Script {
        name: name.into(),
        stage,
        text: format!("#!/bin/sh\n# {line}\necho\n  {line}\n"),
        from: String::new(),
        carried: Carried::Inside,
    };
    for dialect in Dialect::ALL.iter().copied() {
        let has_batches = matches!(dialect, Dialect::Unattend | Dialect::Sif);
        let name = if has_batches { "a.cmd" } else { "a.sh" };
        let mut models =
            vec![Model { script: vec![script(name, Stage::SystemInstalled)], ..Model::default() }];
        if !has_batches {
            models.push(Model { script: vec![script(name, Stage::FirstStart)], ..Model::default() });
            models.push(Model { command: vec![Command::new(Stage::FirstStart, line)], ..Model::default() });
        }
        for model in models {
            let written = write_model(&model, dialect, &mut Secrets::default()).unwrap();
            let erasure = check_written(&written, None).unwrap().erasure;
            let found = erasure.what.iter().filter(|own| own.contains(line)).count();
            assert!(found >= 1, "{}: {erasure:?}\n{}", dialect.name(), written.text);
            assert!(check_model(&model, None).erasure.what.iter().any(|own| own.contains(line)));
        }
        let harmless = Script {
            text: format!("#!/bin/sh\n# {line}\nREM {line}\n:: {line}\n' {line}\n"),
            ..script(name, Stage::SystemInstalled)
        };
        let model = Model { script: vec![harmless], ..Model::default() };
        assert!(!check_model(&model, None).erasure.is_some(), "what is only said is not done");
    }
}
