//! Lists: disks, accounts, commands, folders of drivers, interfaces. Each item has a meaning by which it is found again
//! in a file, whatever else stands in it there.

use super::{
    node::Node,
    spots::{DEPLOYMENT, OOBE, PE, SETUP, SHELL, SPECIALIZE, is_true},
    tasks::{Said, Task},
};
use crate::{
    model::{Account, Disk, FileSystem, Partition, PartitionKind, Scheme, SecretValue, Size, Stage},
    xml::Element,
};
use base64::{Engine, engine::general_purpose::STANDARD};
use neat_content::Encoding;

/// Which list.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(super) enum List {
    Disks,
    Commands(Stage, bool),
    Accounts,
    SignIn,
    Administrator,
    SetupDrivers,
    Drivers,
    Addresses,
    NameServers,
    Firewall,
    InstallTo,
}

/// Where a list stands: pass, component, elements down to what holds the items, name of an item.
pub(super) struct Place {
    pub pass: &'static str,
    pub component: &'static str,
    pub path: &'static [&'static str],
    pub item: &'static str,
}

const DRIVERS_SETUP: &str = "Microsoft-Windows-PnpCustomizationsWinPE";
const DRIVERS: &str = "Microsoft-Windows-PnpCustomizationsNonWinPE";

impl List {
    /// All of them.
    pub fn all() -> Vec<Self> {
        // Disks and accounts come before the commands that say more of them.
        let mut all = vec![Self::Disks, Self::InstallTo, Self::SetupDrivers, Self::Drivers];
        all.extend([Self::Accounts, Self::SignIn, Self::Administrator]);
        for stage in Stage::ALL {
            all.extend([Self::Commands(stage, true), Self::Commands(stage, false)]);
        }
        all.extend([Self::Addresses, Self::NameServers, Self::Firewall]);
        all
    }

    /// Where it stands; none where the dialect has no such list.
    pub fn place(self) -> Option<Place> {
        let place = |pass, component, path, item| Some(Place { pass, component, path, item });
        match self {
            Self::Disks => place(PE, SETUP, &["DiskConfiguration"], "Disk"),
            Self::InstallTo => place(PE, SETUP, &["ImageInstall", "OSImage"], "InstallTo"),
            Self::SetupDrivers => place(PE, DRIVERS_SETUP, &["DriverPaths"], "PathAndCredentials"),
            Self::Drivers => place("offlineServicing", DRIVERS, &["DriverPaths"], "PathAndCredentials"),
            Self::Accounts => place(OOBE, SHELL, &["UserAccounts", "LocalAccounts"], "LocalAccount"),
            Self::SignIn => place(OOBE, SHELL, &[], "AutoLogon"),
            Self::Administrator => place(OOBE, SHELL, &["UserAccounts"], "AdministratorPassword"),
            Self::Addresses => place(SPECIALIZE, "Microsoft-Windows-TCPIP", &["Interfaces"], "Interface"),
            Self::NameServers => {
                place(SPECIALIZE, "Microsoft-Windows-DNS-Client", &["Interfaces"], "Interface")
            }
            Self::Firewall => {
                place(SPECIALIZE, "Networking-MPSSVC-Svc", &["FirewallGroups"], "FirewallGroup")
            }
            Self::Commands(stage, wait) => {
                let (pass, component) = match stage {
                    Stage::SetupStart => (PE, SETUP),
                    Stage::SystemInstalled => (SPECIALIZE, DEPLOYMENT),
                    Stage::Generalize => ("generalize", DEPLOYMENT),
                    Stage::AuditSystem => ("auditSystem", DEPLOYMENT),
                    Stage::AuditUser => ("auditUser", DEPLOYMENT),
                    Stage::FirstSignIn if wait => {
                        return place(OOBE, SHELL, &["FirstLogonCommands"], "SynchronousCommand");
                    }
                    Stage::EverySignIn if !wait => {
                        return place(OOBE, SHELL, &["LogonCommands"], "AsynchronousCommand");
                    }
                    Stage::FirstSignIn | Stage::EverySignIn | Stage::FirstStart => return None,
                };
                if wait {
                    place(pass, component, &["RunSynchronous"], "RunSynchronousCommand")
                } else {
                    place(pass, component, &["RunAsynchronous"], "RunAsynchronousCommand")
                }
            }
        }
    }

    /// Name of the element with a command's line.
    pub fn line_name(self) -> &'static str {
        match self {
            Self::Commands(Stage::FirstSignIn | Stage::EverySignIn, _) => "CommandLine",
            _ => "Path",
        }
    }

    /// Whether there is at most one item.
    pub fn is_single(self) -> bool {
        matches!(self, Self::InstallTo | Self::SignIn | Self::Administrator)
    }

    /// Whether items are numbered.
    pub fn is_numbered(self) -> bool {
        matches!(self, Self::Commands(..))
    }

    /// What an item of the file means; none when it is not one that the neutral form has.
    pub fn understand(self, element: &Element) -> Option<Meaning> {
        match self {
            Self::Disks => disk_of(element).map(Meaning::Disk),
            Self::InstallTo => Some(Meaning::InstallTo {
                disk: element.text_at(&["DiskID"])?.parse().ok()?,
                partition: element.text_at(&["PartitionID"])?.parse().ok()?,
            }),
            Self::SetupDrivers | Self::Drivers => {
                Some(Meaning::Folder(element.text_at(&["Path"])?.to_owned()))
            }
            Self::Accounts => account_of(element),
            Self::SignIn => Some(Meaning::SignIn {
                name: element.text_at(&["Username"])?.to_owned(),
                count: element.text_at(&["LogonCount"]).map_or(Some(1), |text| text.parse().ok())?,
                password: password_of(element.child("Password"), "Password"),
            })
            .filter(|_| element.text_at(&["Enabled"]).is_some_and(is_true)),
            Self::Administrator => {
                password_of(Some(element), "AdministratorPassword").map(Meaning::Administrator)
            }
            Self::Addresses => {
                let addresses = element.child("UnicastIpAddresses")?;
                let routes = element.find(&["Routes", "Route"]);
                Some(Meaning::Address {
                    interface: element.text_at(&["Identifier"])?.to_owned(),
                    address: addresses.text_at(&["IpAddress"])?.to_owned(),
                    gateway: routes
                        .and_then(|route| route.text_at(&["NextHopAddress"]))
                        .unwrap_or_default()
                        .to_owned(),
                })
            }
            Self::NameServers => Some(Meaning::NameServers {
                interface: element.text_at(&["Identifier"])?.to_owned(),
                servers: element
                    .child("DNSServerSearchOrder")?
                    .children
                    .iter()
                    .map(|server| server.text.trim().to_owned())
                    .collect(),
            }),
            Self::Firewall => (element.text_at(&["Group"])? == FIREWALL_GROUP
                && element.text_at(&["Active"]).is_some_and(is_true))
            .then_some(Meaning::Firewall),
            Self::Commands(stage, wait) => {
                let run = element.text_at(&[self.line_name()])?.to_owned();
                let description = element.text_at(&["Description"]).unwrap_or_default().to_owned();
                Some(Meaning::Task(Task::understand(stage, &Said { run, description, wait })))
            }
        }
    }

    /// An item as it is written, with its number where items have one.
    pub fn node(self, meaning: &Meaning, number: usize) -> Node {
        let name = self.place().map_or("", |place| place.item);
        match meaning {
            Meaning::Task(task) => {
                let said = match self {
                    Self::Commands(stage, _) => task.say_at(stage),
                    _ => task.say(),
                };
                Node::item(name)
                    .and("Order", number.to_string())
                    .and_some("Description", &said.description)
                    .and(self.line_name(), said.run)
            }
            Meaning::Disk(disk) => disk_node(disk),
            Meaning::InstallTo { disk, partition } => {
                Node::new(name).and("DiskID", disk.to_string()).and("PartitionID", partition.to_string())
            }
            Meaning::Folder(path) => {
                Node::item(name).attribute("wcm:keyValue", &number.to_string()).and("Path", path)
            }
            Meaning::Account { account, password } => account_node(account, password.as_ref()),
            Meaning::SignIn { name: user, count, password } => {
                let node = Node::new(name)
                    .and("Username", user)
                    .and("Enabled", "true")
                    .and("LogonCount", count.to_string());
                match password {
                    Some(password) => node.with(password_node("Password", password)),
                    None => node,
                }
            }
            Meaning::Administrator(password) => password_node("AdministratorPassword", password),
            Meaning::Address { interface, address, gateway } => {
                let node = Node::item(name)
                    .with(Node::new("Ipv4Settings").and("DhcpEnabled", "false"))
                    .and("Identifier", interface)
                    .with(
                        Node::new("UnicastIpAddresses").with(
                            Node::with_text("IpAddress", address)
                                .attribute("wcm:action", "add")
                                .attribute("wcm:keyValue", "1"),
                        ),
                    );
                if gateway.is_empty() {
                    return node;
                }
                node.with(
                    Node::new("Routes").with(
                        Node::item("Route")
                            .and("Identifier", "0")
                            .and("NextHopAddress", gateway)
                            .and("Prefix", "0.0.0.0/0"),
                    ),
                )
            }
            Meaning::NameServers { interface, servers } => {
                let mut list = Node::new("DNSServerSearchOrder");
                for (number, server) in servers.iter().enumerate() {
                    let server = Node::with_text("IpAddress", server).attribute("wcm:action", "add");
                    list.children.push(server.attribute("wcm:keyValue", &(number + 1).to_string()));
                }
                Node::item(name).and("Identifier", interface).with(list)
            }
            Meaning::Firewall => Node::item(name)
                .attribute("wcm:keyValue", "remote-desktop")
                .and("Active", "true")
                .and("Group", FIREWALL_GROUP)
                .and("Profile", "all"),
        }
    }
}

/// The documented name of the group of rules that let people work from afar.
const FIREWALL_GROUP: &str = "@FirewallAPI.dll,-28752";

/// What an item means.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Meaning {
    Task(Task),
    Disk(Disk),
    InstallTo { disk: u32, partition: u32 },
    Folder(String),
    Account { account: Account, password: Option<Password> },
    SignIn { name: String, count: u32, password: Option<Password> },
    Administrator(Password),
    Address { interface: String, address: String, gateway: String },
    NameServers { interface: String, servers: Vec<String> },
    Firewall,
}

/// A password in the file.
#[derive(Clone, PartialEq, Eq)]
pub(super) struct Password(pub String);

impl std::fmt::Debug for Password {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Password(…)")
    }
}

impl Password {
    pub fn value(&self) -> SecretValue {
        SecretValue::Plain(self.0.clone())
    }
}

/// The documented form that hides a password from a passing look: base64 of UTF-16 with the element's name at its end.
fn password_node(name: &str, password: &Password) -> Node {
    let text = format!("{}{name}", password.0);
    let bytes: Vec<u8> = text.encode_utf16().flat_map(u16::to_le_bytes).collect();
    Node::new(name).and("Value", STANDARD.encode(bytes)).and("PlainText", "false")
}

fn password_of(element: Option<&Element>, name: &str) -> Option<Password> {
    let element = element?;
    let value = element.child("Value")?;
    // Text is trimmed where it is no secret; a password may begin with a space.
    let text = &value.text;
    if element.text_at(&["PlainText"]).is_none_or(is_true) {
        return Some(Password(text.clone()));
    }
    let bytes = STANDARD.decode(text.trim()).ok()?;
    let units: Vec<u16> = bytes.chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]])).collect();
    let text = String::from_utf16(&units).ok()?;
    Some(Password(text.strip_suffix(name)?.to_owned()))
}

fn account_of(element: &Element) -> Option<Meaning> {
    let groups = element.text_at(&["Group"]).unwrap_or_default();
    let groups = groups.split(';').map(str::trim).filter(|name| !name.is_empty());
    let password = password_of(element.child("Password"), "Password");
    let account = Account {
        full_name: element.text_at(&["DisplayName"]).unwrap_or_default().to_owned(),
        groups: groups.map(neutral_group).collect(),
        ..Account::named(element.text_at(&["Name"])?)
    };
    Some(Meaning::Account { account, password })
}

/// Groups of the neutral form as this dialect calls them.
const GROUPS: [(&str, &str); 2] = [("administrators", "Administrators"), ("users", "Users")];

fn neutral_group(name: &str) -> String {
    GROUPS.iter().find(|(_, own)| *own == name).map_or(name, |(neutral, _)| neutral).to_owned()
}

fn account_node(account: &Account, password: Option<&Password>) -> Node {
    let groups: Vec<&str> = account
        .groups
        .iter()
        .map(|name| GROUPS.iter().find(|(neutral, _)| neutral == name).map_or(name.as_str(), |(_, own)| own))
        .collect();
    let mut node = Node::item("LocalAccount");
    if let Some(password) = password {
        node = node.with(password_node("Password", password));
    }
    node.and_some("DisplayName", &account.full_name)
        .and_some("Group", &groups.join(";"))
        .and("Name", &account.name)
}

/// Type identifiers of partition tables for recovery partitions (UEFI specification, 5.3.3, and MBR type 27).
const RECOVERY_GPT: &str = "DE94BBA4-06D1-4D40-A16A-BFD50179D6AC";
const RECOVERY_MBR: &str = "0x27";

fn disk_node(disk: &Disk) -> Node {
    let mut create = Node::new("CreatePartitions");
    let mut modify = Node::new("ModifyPartitions");
    let is_gpt = disk.scheme != Some(Scheme::Mbr);
    for (index, partition) in disk.partition.iter().enumerate() {
        let number = (index + 1).to_string();
        let kind = match partition.kind {
            PartitionKind::Efi => "EFI",
            PartitionKind::Reserved => "MSR",
            _ => "Primary",
        };
        let size = match partition.size {
            Size::Rest => Node::with_text("Extend", "true"),
            Size::Mib(mib) => Node::with_text("Size", mib.to_string()),
        };
        create
            .children
            .push(Node::item("CreatePartition").and("Order", &number).with(size).and("Type", kind));
        let mut own = Node::item("ModifyPartition").and("Order", &number).and("PartitionID", &number);
        if partition.kind == PartitionKind::Boot {
            own = own.and("Active", "true");
        }
        let format = match (partition.file_system, partition.kind) {
            (Some(FileSystem::Fat32), _) | (None, PartitionKind::Efi) => "FAT32",
            (_, PartitionKind::Reserved) => "",
            _ => "NTFS",
        };
        own = own.and_some("Format", format).and_some("Label", &partition.label);
        if let Some(letter) = partition.letter {
            own = own.and("Letter", letter.to_string());
        }
        if partition.kind == PartitionKind::Recovery {
            own = own.and("TypeID", if is_gpt { RECOVERY_GPT } else { RECOVERY_MBR });
        }
        modify.children.push(own);
    }
    let mut node = Node::item("Disk")
        .and("DiskID", disk.number.unwrap_or(0).to_string())
        .and("WillWipeDisk", disk.wipe.to_string());
    if !disk.partition.is_empty() {
        node = node.with(create).with(modify);
    }
    node
}

fn disk_of(element: &Element) -> Option<Disk> {
    let number = element.text_at(&["DiskID"])?.parse().ok()?;
    let mut created: Vec<(u64, Partition)> = Vec::new();
    for one in element.child("CreatePartitions").map(|list| list.children.as_slice()).unwrap_or_default() {
        let kind = match one.text_at(&["Type"]).unwrap_or_default().to_ascii_lowercase().as_str() {
            "efi" => PartitionKind::Efi,
            "msr" => PartitionKind::Reserved,
            _ => PartitionKind::Data,
        };
        let size = match one.text_at(&["Size"]).map(str::parse) {
            Some(Ok(mib)) => Size::Mib(mib),
            _ => Size::Rest,
        };
        let order = one.text_at(&["Order"]).and_then(|text| text.parse().ok()).unwrap_or(u64::MAX);
        created.push((order, Partition::new(kind, size)));
    }
    created.sort_by_key(|(order, _)| *order);
    let mut partition: Vec<Partition> = created.into_iter().map(|(_, partition)| partition).collect();
    let mut scheme = None;
    for own in element.child("ModifyPartitions").map(|list| list.children.as_slice()).unwrap_or_default() {
        let index = own.text_at(&["PartitionID"]).and_then(|text| text.parse::<usize>().ok()).unwrap_or(0);
        let Some(partition) = index.checked_sub(1).and_then(|index| partition.get_mut(index)) else {
            continue;
        };
        own.text_at(&["Label"]).unwrap_or_default().clone_into(&mut partition.label);
        partition.letter = own.text_at(&["Letter"]).and_then(|text| text.chars().next());
        let usual = if partition.kind == PartitionKind::Efi { FileSystem::Fat32 } else { FileSystem::Ntfs };
        let format = own.text_at(&["Format"]).and_then(FileSystem::of_name);
        partition.file_system = format.filter(|format| *format != usual);
        let type_id = own.text_at(&["TypeID"]).unwrap_or_default();
        if type_id.eq_ignore_ascii_case(RECOVERY_GPT) || type_id.eq_ignore_ascii_case(RECOVERY_MBR) {
            partition.kind = PartitionKind::Recovery;
            scheme = Some(if type_id.len() > 4 { Scheme::Gpt } else { Scheme::Mbr });
        } else if own.text_at(&["Active"]).is_some_and(is_true) && partition.kind == PartitionKind::Data {
            partition.kind = PartitionKind::Boot;
        }
    }
    let has = |kind| partition.iter().any(|partition| partition.kind == kind);
    if has(PartitionKind::Efi) || has(PartitionKind::Reserved) {
        scheme = Some(Scheme::Gpt);
    } else if has(PartitionKind::Boot) {
        scheme = Some(Scheme::Mbr);
    }
    let wipe = element.text_at(&["WillWipeDisk"]).is_some_and(is_true);
    Some(Disk { number: Some(number), wipe, scheme, partition, ..Disk::default() })
}

/// Text of a file as the system reads it, for things that lie beside the answers.
pub(super) fn wireless_profile(name: &str, password: Option<&str>, hidden: bool) -> Vec<u8> {
    let ssid = Node::new("SSIDConfig")
        .with(Node::new("SSID").and("name", name))
        .and_some("nonBroadcast", if hidden { "true" } else { "" });
    let (authentication, encryption) = if password.is_some() { ("WPA2PSK", "AES") } else { ("open", "none") };
    let mut security = Node::new("security").with(
        Node::new("authEncryption")
            .and("authentication", authentication)
            .and("encryption", encryption)
            .and("useOneX", "false"),
    );
    if let Some(password) = password {
        security = security.with(
            Node::new("sharedKey")
                .and("keyType", "passPhrase")
                .and("protected", "false")
                .and("keyMaterial", password),
        );
    }
    let profile = Node::new("WLANProfile")
        .attribute("xmlns", "http://www.microsoft.com/networking/WLAN/profile/v1")
        .and("name", name)
        .with(ssid)
        .and("connectionType", "ESS")
        .and("connectionMode", "auto")
        .with(Node::new("MSM").with(security));
    Encoding::Utf8.encode(&format!("<?xml version=\"1.0\"?>\r\n{}\r\n", profile.render("", "  ", "\r\n")))
}
