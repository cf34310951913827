//! Models of every kind that a dialect can say.

use neat_answer::{
    Dialect, Model, Secrets,
    model::{
        Account, Administrator, AppList, Architecture, Command, Disk, Display, Distribution, EditionChoice,
        Erases, FirstStart, KeyChoice, Language, Licence, Machine, Network, Page, Partition, PartitionKind,
        Place, Power, Privacy, RegistryValue, Remote, Requirement, Scheme, Script, Secret, Size, Stage,
        StaticAddress, System, WhenDone, Wireless,
    },
};
use proptest::{collection::vec, option, prelude::*, sample::subsequence};
use std::path::Path;

/// Text that breaks what is not escaped: one line, no blanks at its ends.
fn hostile() -> impl Strategy<Value = String> {
    let part = prop_oneof![
        Just("]]>"),
        Just("<!--"),
        Just("&amp;"),
        Just("&lt;"),
        Just("\""),
        Just("'"),
        Just("\\"),
        Just("𐐷é漢"),
        Just("%PATH%"),
        Just("$HOME"),
        Just("#"),
        Just("a b"),
        Just("x"),
        Just("{a"),
        Just("}"),
        Just(": "),
        Just("- "),
        Just("`"),
        Just("~"),
    ];
    vec(part, 1..5).prop_map(|parts| format!("t{}e", parts.concat()))
}

fn maybe<T: Clone + std::fmt::Debug + Default>(own: impl Strategy<Value = T>) -> impl Strategy<Value = T> {
    option::of(own).prop_map(Option::unwrap_or_default)
}

fn word() -> impl Strategy<Value = String> {
    "[a-z][a-z0-9]{1,7}"
}

fn tag() -> impl Strategy<Value = String> {
    prop_oneof![Just("en-GB"), Just("da-DK"), Just("de-DE"), Just("nb-NO"), Just("sr-Latn-RS")]
        .prop_map(str::to_owned)
}

fn secret() -> impl Strategy<Value = Option<Secret>> {
    option::of(Just(Secret::File("secret.txt".into())))
}

fn machine_names() -> impl Strategy<Value = String> {
    prop_oneof![
        Just(String::new()),
        Just("BRIDGE-01".to_owned()),
        Just("{random}".to_owned()),
        Just("LAB-{serial}".to_owned()),
        Just("K{random:4}-x".to_owned()),
    ]
}

fn guarded(disk: Disk) -> impl Strategy<Value = Disk> {
    (any::<bool>(), option::of(1_u64..99), option::of(9_000_u64..999_999)).prop_map(
        move |(only_disk, least, most)| Disk {
            only_disk,
            at_least: least.map(Size::Mib),
            at_most: most.map(Size::Mib),
            ..disk.clone()
        },
    )
}

/// The whole of the first disk, or what is free.
fn whole_disk() -> impl Strategy<Value = Vec<Disk>> {
    let one = (any::<bool>(), any::<bool>()).prop_map(|(wipe, is_made)| Disk {
        wipe,
        partition: is_made.then(|| Partition::new(PartitionKind::System, Size::Rest)).into_iter().collect(),
        ..Disk::default()
    });
    option::of(one).prop_map(|own| own.into_iter().collect())
}

fn disks(dialect: Dialect) -> BoxedStrategy<Vec<Disk>> {
    if dialect == Dialect::Sif {
        return whole_disk().boxed();
    }
    let is_unattend = dialect == Dialect::Unattend;
    let partition = |kind, size| Partition::new(kind, size);
    let system = move |label: String| Partition { label, ..partition(PartitionKind::System, Size::Rest) };
    let efi = partition(PartitionKind::Efi, Size::Mib(300));
    let own = move |(gpt, label, with_swap): (bool, String, bool)| {
        let mut all = Vec::new();
        if gpt {
            all.push(efi.clone());
        } else {
            all.push(partition(PartitionKind::Boot, Size::Mib(1024)));
        }
        match (is_unattend, with_swap) {
            (true, true) if gpt => all.push(partition(PartitionKind::Reserved, Size::Mib(16))),
            (false, true) => all.push(partition(PartitionKind::Swap, Size::Mib(2048))),
            _ => {}
        }
        all.push(system(label));
        let mut disk = Disk {
            wipe: true,
            scheme: Some(if gpt { Scheme::Gpt } else { Scheme::Mbr }),
            partition: all,
            ..Disk::default()
        };
        if is_unattend {
            disk.number = Some(0);
        } else {
            disk.device = "sda".into();
        }
        disk
    };
    let one = (any::<bool>(), maybe(word()), any::<bool>()).prop_map(own).prop_flat_map(guarded);
    option::of(one).prop_map(|own| own.into_iter().collect()).boxed()
}

fn accounts(dialect: Dialect) -> impl Strategy<Value = Vec<Account>> {
    let linux = dialect != Dialect::Unattend;
    // All but one dialect can say that somebody is signed in.
    let rest = (
        maybe(hostile()),
        subsequence(vec!["administrators".to_owned(), "video".to_owned()], 0..=2),
        secret(),
    );
    let one = (word(), rest, any::<bool>(), 0_u32..3).prop_map(
        move |(name, (full_name, groups, password), lasting, times)| Account {
            full_name,
            groups,
            password,
            password_never_expires: lasting && !linux,
            automatic_sign_ins: if linux { 0 } else { times },
            ..Account::named(&name)
        },
    );
    // Without an account autoinstall asks for one.
    let least = usize::from(dialect == Dialect::Autoinstall);
    vec(one, least..3).prop_map(move |mut all| {
        all.sort_by(|a, b| a.name.cmp(&b.name));
        all.dedup_by(|a, b| a.name == b.name);
        let mut seen = false;
        for account in &mut all {
            // One account can be signed in.
            if seen {
                account.automatic_sign_ins = 0;
            }
            seen |= account.automatic_sign_ins > 0;
        }
        if dialect == Dialect::Autoinstall && all.len() == 1 {
            // The first account of a machine administers it there.
            all[0].groups = if all[0].password.is_some() { Vec::new() } else { all[0].groups.clone() };
        }
        all
    })
}

fn commands(dialect: Dialect) -> impl Strategy<Value = Vec<Command>> {
    let stages = match dialect {
        Dialect::Unattend => vec![
            Stage::SetupStart,
            Stage::SystemInstalled,
            Stage::FirstSignIn,
            Stage::Generalize,
            Stage::AuditSystem,
            Stage::AuditUser,
        ],
        Dialect::Sif => vec![Stage::SystemInstalled, Stage::FirstSignIn],
        _ => vec![Stage::SetupStart, Stage::SystemInstalled, Stage::FirstStart],
    };
    let has_batches = matches!(dialect, Dialect::Unattend | Dialect::Sif);
    let is_unattend = dialect == Dialect::Unattend;
    let has_description =
        matches!(dialect, Dialect::Unattend | Dialect::Kickstart | Dialect::Autoyast | Dialect::Sif);
    // Quotes are balanced in commands that a shell reads.
    let run = if has_batches {
        hostile().boxed()
    } else {
        (
            "c[a-z]{1,5}",
            prop_oneof![
                Just("'it; is'"),
                Just("'two\\\\nlines\\n'"),
                Just("\"a # b\""),
                Just("--x=𐐷é"),
                Just("a\\ b"),
                Just("\"$HOME/]]>\"")
            ],
        )
            .prop_map(|(word, rest)| format!("{word} {rest}"))
            .boxed()
    };
    let one = (proptest::sample::select(stages), run, maybe(hostile()), any::<bool>(), any::<bool>())
        .prop_map(move |(stage, run, description, first, second)| Command {
            // Those of the first start have no room for it where a unit runs them, nor have those of a list without names.
            description: if has_description
                && (stage, dialect) != (Stage::FirstStart, Dialect::Kickstart)
                && (stage, dialect) != (Stage::FirstSignIn, Dialect::Sif)
            {
                description
            } else {
                String::new()
            },
            wait: !first || stage == Stage::FirstSignIn,
            hidden: is_unattend && second,
            outside: !has_batches && second && stage == Stage::SystemInstalled,
            ..Command::new(stage, run)
        });
    vec(one, 0..5).prop_map(move |mut all| {
        // As they are read back: by stage, and those that are waited for, or inside, first where the dialect has two
        // places.
        let order = |own: &Command| {
            let stage = Stage::ALL.iter().position(|stage| *stage == own.stage);
            let split = match dialect {
                Dialect::Unattend | Dialect::Sif => !own.wait,
                Dialect::Kickstart | Dialect::Autoyast => own.outside,
                _ => false,
            };
            (stage, split)
        };
        all.sort_by_key(order);
        all
    })
}

fn scripts(dialect: Dialect) -> impl Strategy<Value = Vec<Script>> {
    let text = (hostile(), hostile()).prop_map(|(a, b)| format!("#!/bin/sh\necho {a}\\n\n{b}\n"));
    let ending = if dialect == Dialect::Unattend { "cmd" } else { "sh" };
    let one = (word(), text).prop_map(move |(name, text)| Script {
        name: format!("{name}.{ending}"),
        stage: Stage::SystemInstalled,
        text,
        from: String::new(),
        carried: neat_answer::model::Carried::Inside,
    });
    // Those of this one lie beside the answers.
    option::of(one).prop_map(move |own| own.into_iter().filter(|_| dialect != Dialect::Sif).collect())
}

fn network(dialect: Dialect) -> impl Strategy<Value = Network> {
    let fixed = (word(), any::<bool>()).prop_map(|(interface, gateway)| StaticAddress {
        interface,
        address: "192.0.2.5/25".into(),
        gateway: if gateway { "192.0.2.1".into() } else { String::new() },
        name_servers: if gateway { vec!["192.0.2.53".into(), "192.0.2.54".into()] } else { Vec::new() },
    });
    let place = option::of(prop_oneof![Just(Place::Home), Just(Place::Work), Just(Place::Public)]);
    (option::of(fixed), hostile(), secret(), any::<bool>(), place).prop_map(
        move |(fixed, name, password, other, place)| {
            let is_unattend = dialect == Dialect::Unattend;
            // A description of a wireless network is a file beside unattend, and kickstart sets up one network.
            let is_wired = matches!(dialect, Dialect::Unattend | Dialect::Sif);
            let has_wireless = other && !(is_wired || dialect == Dialect::Kickstart && fixed.is_some());
            Network {
                interface: match dialect {
                    Dialect::Preseed | Dialect::Kickstart if fixed.is_none() && !has_wireless && other => {
                        "auto".into()
                    }
                    Dialect::Preseed | Dialect::Kickstart | Dialect::Autoyast
                        if fixed.is_none() && !has_wireless && place.is_some() =>
                    {
                        "enp1s0".into()
                    }
                    _ => String::new(),
                },
                needed: (other && !matches!(dialect, Dialect::Kickstart | Dialect::Autoyast | Dialect::Sif))
                    .then_some(false),
                place: place.filter(|_| is_unattend),
                wireless: has_wireless.then_some(Wireless { name, password, hidden: false }),
                fixed,
            }
        },
    )
}

/// What each dialect can say of a distribution, all or nothing of it.
fn distribution(dialect: Dialect, is_said: bool, truth: Option<u32>) -> Distribution {
    let truth = truth.map(|own| own % 2 == 0);
    let text = |own: &str, dialects: &[Dialect]| {
        if is_said && dialects.contains(&dialect) { own.to_owned() } else { String::new() }
    };
    use Dialect::{Autoinstall, Autoyast, Kickstart, Preseed};
    Distribution {
        mirror: text("http://mirror.example:8080/quay/os", &[Preseed, Kickstart, Autoinstall]),
        kernel: text("linux-image-rt", &[Preseed, Autoinstall, Autoyast]),
        kernel_options: text("quiet console=ttyS0,115200", &[Preseed, Kickstart, Autoyast]),
        recommends: match dialect {
            Preseed | Autoyast => truth,
            Kickstart => truth.filter(|own| !own),
            _ => None,
        },
        firmware: truth.filter(|_| dialect == Preseed),
    }
}

/// Models that `dialect` can say in full, in the form in which it says them back.
pub fn models(dialect: Dialect) -> impl Strategy<Value = Model> {
    let is_unattend = dialect == Dialect::Unattend;
    let is_sif = dialect == Dialect::Sif;
    let has_owner = is_unattend || is_sif;
    let keyboards = vec(tag(), 1..3).prop_map(move |mut all| {
        all.dedup();
        if dialect == Dialect::Autoyast {
            // One, of those that it has a word for.
            all.retain(|own| own != "sr-Latn-RS");
            all.truncate(1);
        }
        all
    });
    let language = (maybe(tag()), maybe(tag()), maybe(keyboards), any::<bool>()).prop_map(
        move |(setup, user, keyboards, zone)| Language {
            interface: String::new(),
            system: if has_owner { user.clone() } else { String::new() },
            user: if has_owner { user } else { String::new() },
            keyboards,
            time_zone: if zone { "Europe/Paris".into() } else { String::new() },
            setup: if is_sif { String::new() } else { setup },
        },
    );
    let edition =
        prop_oneof![hostile().prop_map(EditionChoice::Name), (1_u32..9).prop_map(EditionChoice::Number)];
    let system =
        (option::of(edition), any::<bool>(), any::<bool>()).prop_map(move |(edition, key, licence)| System {
            edition: match (dialect, edition) {
                (Dialect::Unattend, own)
                | (Dialect::Autoinstall | Dialect::Autoyast, own @ Some(EditionChoice::Name(_))) => own,
                _ => None,
            },
            key: (is_unattend && key).then_some(KeyChoice::None(true)),
            licence: (licence && matches!(dialect, Dialect::Unattend | Dialect::Kickstart | Dialect::Sif))
                .then_some(Licence::Accept),
            folder: if is_sif && key { "QUAY.2".into() } else { String::new() },
        });
    let machine = (machine_names(), maybe(hostile()), maybe(hostile()), any::<bool>()).prop_map(
        move |(name, owner, organisation, domain)| {
            let is_fixed = !name.is_empty() && !name.contains('{');
            Machine {
                name: match name.as_str() {
                    _ if is_sif && !is_fixed && name != "{random}" => String::new(),
                    "{random}" if !has_owner => "{random:8}".into(),
                    _ => name,
                },
                domain: if domain && (has_owner || is_fixed) {
                    "ferries.example".into()
                } else {
                    String::new()
                },
                owner: if has_owner { owner } else { String::new() },
                organisation: if has_owner { organisation } else { String::new() },
            }
        },
    );
    let people = (accounts(dialect), secret(), option::of(any::<bool>()));
    let start = (
        subsequence(vec![Page::LocalAccount, Page::Registration, Page::Wireless], 0..=3),
        any::<bool>(),
        0_u8..3,
    );
    let checks =
        subsequence(vec![Requirement::SecurityChip, Requirement::SecureStart, Requirement::DiskSize], 0..=3);
    let more = (checks, any::<bool>(), any::<bool>(), option::of(0_u32..99), 0_u8..3);
    let registry = vec((hostile(), hostile(), any::<bool>()), 0..3);
    let software = (
        subsequence(vec!["vim".to_owned(), "nano".to_owned()], 0..=2),
        subsequence(vec!["cards".to_owned(), "news".to_owned()], 0..=2),
    );
    let parts = (language, system, machine, disks(dialect), people, network(dialect), start);
    (parts, more, registry, software, commands(dialect), scripts(dialect), any::<bool>()).prop_map(
        move |(
            (language, system, machine, disk, people, network, start),
            more,
            registry,
            software,
            command,
            script,
            erases,
        )| {
            let (account, password, enabled) = people;
            let privacy = [None, Some(Privacy::Accept), Some(Privacy::Decline)][start.2 as usize];
            let (waive, encryption, remote, minutes, done) = more;
            let registry: Vec<RegistryValue> = registry
                .into_iter()
                .map(|(name, value, user)| RegistryValue {
                    key: format!("{}\\Software\\Brackwater", if user { "HKCU" } else { "HKLM" }),
                    name,
                    kind: "string".into(),
                    value,
                })
                .collect();
            let (machine_values, user_values): (Vec<_>, Vec<_>) =
                registry.into_iter().partition(|own| own.key.starts_with("HKLM"));
            Model {
                erases: if erases { Erases::Yes } else { Erases::No },
                architectures: if is_unattend { vec![Architecture::X64] } else { Vec::new() },
                language,
                system,
                machine,
                disk,
                administrator: Administrator {
                    enabled: match dialect {
                        Dialect::Kickstart | Dialect::Autoyast => enabled.filter(|own| !own),
                        Dialect::Sif => None,
                        _ => enabled,
                    },
                    password,
                },
                account,
                network,
                first_start: FirstStart {
                    skip: if is_unattend { start.0 } else { Vec::new() },
                    offline_account: is_unattend && start.1,
                    privacy: privacy.filter(|_| matches!(dialect, Dialect::Unattend | Dialect::Preseed)),
                },
                waive: if is_unattend { waive } else { Vec::new() },
                prevent_encryption: is_unattend && encryption,
                display: Display {
                    width: minutes.map(|own| own + 640).filter(|_| has_owner),
                    height: minutes.map(|own| own + 480).filter(|_| has_owner),
                    bits: (has_owner && remote).then_some(32),
                    refresh: (has_owner && encryption).then_some(60),
                },
                remote: Remote { allow: remote },
                power: Power {
                    sleep_minutes: minutes.filter(|_| is_unattend),
                    screen_minutes: minutes.filter(|_| is_unattend),
                    hibernation: minutes.map(|own| own % 2 == 0).filter(|_| has_owner),
                    leave_disc: match dialect {
                        Dialect::Preseed => enabled,
                        Dialect::Kickstart if done > 0 => enabled.filter(|leave| !leave),
                        _ => None,
                    },
                    when_done: if has_owner {
                        None
                    } else {
                        [None, Some(WhenDone::Off), Some(WhenDone::Restart)][done as usize]
                    },
                },
                software: AppList {
                    add: if is_unattend { Vec::new() } else { software.0 },
                    remove: software.1,
                    drivers: match dialect {
                        Dialect::Unattend if encryption => vec!["%configsetroot%\\drivers".into()],
                        Dialect::Sif if encryption => {
                            vec!["%SystemDrive%\\drivers\\net".into(), "%SystemDrive%\\b c".into()]
                        }
                        _ => Vec::new(),
                    },
                    configuration_set: is_unattend && encryption,
                    updates: if is_unattend && remote { vec!["D:\\up dates".into()] } else { Vec::new() },
                },
                distribution: distribution(dialect, remote, minutes),
                registry: if has_owner {
                    machine_values.into_iter().chain(user_values).collect()
                } else {
                    Vec::new()
                },
                command,
                script,
                ..Model::default()
            }
        },
    )
}

/// Secrets from a file that is there for the tests.
pub fn secrets() -> Secrets<'static> {
    let base = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/data");
    Secrets { base, ..Secrets::default() }
}
