//! Hives and registration text.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::items_after_statements,
    clippy::semicolon_if_nothing_returned,
    missing_docs,
    reason = "tests stop at the first surprise"
)]

use neat_content::{Class, Encoding};
use neat_registry::{Change, Hive, Limits, RegText, Signature, ValueKind, compare, text_data, texts_data};
use neat_testing::hive::{check, u32_at};
use proptest::prelude::*;
use std::collections::BTreeMap;

const DESCRIPTOR: &[u8] = &[1, 0, 4, 0x80, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0];

/// Assembles hives cell by cell, without the writer.
struct Assembler {
    bins: Vec<u8>,
}

impl Assembler {
    fn new() -> Self {
        let mut bins = vec![0; 32];
        bins[..4].copy_from_slice(b"hbin");
        Self { bins }
    }

    fn cell(&mut self, content: &[u8]) -> u32 {
        let at = self.bins.len() as u32;
        let size = (content.len() + 4).next_multiple_of(8);
        self.bins.extend_from_slice(&(-(size as i32)).to_le_bytes());
        self.bins.extend_from_slice(content);
        self.bins.resize(at as usize + size, 0);
        at
    }

    fn set(&mut self, cell: u32, at: usize, number: u32) {
        let place = cell as usize + 4 + at;
        self.bins[place..place + 4].copy_from_slice(&number.to_le_bytes());
    }

    fn key(&mut self, flags: u16, name: &[u8], parent: u32) -> u32 {
        let mut key = vec![0; 76];
        key[..2].copy_from_slice(b"nk");
        key[2..4].copy_from_slice(&flags.to_le_bytes());
        key[16..20].copy_from_slice(&parent.to_le_bytes());
        key[28..36].fill(0xFF);
        key[40..52].fill(0xFF);
        key[72..74].copy_from_slice(&(name.len() as u16).to_le_bytes());
        key.extend_from_slice(name);
        self.cell(&key)
    }

    fn security(&mut self) -> u32 {
        let mut cell = b"sk\0\0".to_vec();
        cell.resize(20, 0);
        cell[16] = DESCRIPTOR.len() as u8;
        cell.extend_from_slice(DESCRIPTOR);
        self.cell(&cell)
    }

    fn value(&mut self, name: &[u8], flags: u16, kind: u32, len: u32, place: u32) -> u32 {
        let mut value = b"vk".to_vec();
        value.extend_from_slice(&(name.len() as u16).to_le_bytes());
        for number in [len, place, kind, u32::from(flags)] {
            value.extend_from_slice(&number.to_le_bytes());
        }
        value.extend_from_slice(name);
        self.cell(&value)
    }

    fn list(&mut self, kind: [u8; 2], cells: &[u32]) -> u32 {
        let mut list = kind.to_vec();
        list.extend_from_slice(&(cells.len() as u16).to_le_bytes());
        for cell in cells {
            list.extend_from_slice(&cell.to_le_bytes());
            if &kind == b"lf" || &kind == b"lh" {
                list.extend_from_slice(b"hint");
            }
        }
        self.cell(&list)
    }

    fn finish(mut self, minor: u32, root: u32) -> Vec<u8> {
        let used = self.bins.len();
        let len = used.next_multiple_of(4096);
        self.bins.resize(len, 0);
        if len > used {
            self.bins[used..used + 4].copy_from_slice(&((len - used) as u32).to_le_bytes());
        }
        self.bins[8..12].copy_from_slice(&(len as u32).to_le_bytes());
        let mut base = vec![0; 4096];
        base[..4].copy_from_slice(b"regf");
        for (at, number) in
            [(4, 7), (8, 7), (20, 1), (24, minor), (32, 1), (36, root), (40, len as u32), (44, 1)]
        {
            base[at..at + 4].copy_from_slice(&u32::to_le_bytes(number));
        }
        seal(&mut base);
        base.extend_from_slice(&self.bins);
        base
    }
}

/// Puts the checksum right.
fn seal(base: &mut [u8]) {
    let sum = (0..127).fold(0, |sum, n| sum ^ u32_at(base, n * 4));
    base[508..512].copy_from_slice(&sum.to_le_bytes());
}

/// A hive with every kind of list, wide and narrow names, data inside, outside and in segments.
fn assembled(minor: u32) -> Vec<u8> {
    let mut hive = Assembler::new();
    let root = hive.key(0x2C, b"ROOT", u32::MAX);
    let security = hive.security();
    let leaf = |hive: &mut Assembler, name: &[u8], flags| {
        let key = hive.key(flags, name, root);
        hive.set(key, 44, security);
        key
    };
    let wide: Vec<u8> = "Ünïcødé→".encode_utf16().flat_map(u16::to_le_bytes).collect();
    let names = [(&b"Alpha"[..], 0x20), (b"beta", 0x20), (b"Gr\xFCn", 0x20), (&wide, 0)];
    let keys: Vec<u32> = names.iter().map(|(name, flags)| leaf(&mut hive, name, *flags)).collect();
    let class = hive.cell(&"class".encode_utf16().flat_map(u16::to_le_bytes).collect::<Vec<_>>());
    hive.set(keys[1], 48, class);
    hive.set(keys[1], 72, 4 | 10 << 16);
    let first = hive.list(*b"li", &keys[..1]);
    let second = hive.list(*b"lf", &keys[1..3]);
    let third = hive.list(*b"lh", &keys[3..]);
    let all = hive.list(*b"ri", &[first, second, third]);
    hive.set(root, 20, 4);
    hive.set(root, 28, all);
    hive.set(root, 44, security);
    let big: Vec<u8> = (0..40_000_u32).map(|n| (n % 251) as u8).collect();
    let big_cell = if minor >= 4 {
        let segments: Vec<u32> = big.chunks(16344).map(|part| hive.cell(part)).collect();
        let list: Vec<u8> = segments.iter().flat_map(|cell| cell.to_le_bytes()).collect();
        let list = hive.cell(&list);
        let mut db = b"db\x03\x00".to_vec();
        db.extend_from_slice(&list.to_le_bytes());
        hive.cell(&db)
    } else {
        hive.cell(&big)
    };
    let text = hive.cell(&text_data("Fähre"));
    let values = [
        hive.value(b"", 1, 1, 12, text),
        hive.value(b"number", 1, 4, 4 | 1 << 31, 0x1234_5678),
        hive.value(b"big", 1, 3, 40_000, big_cell),
        hive.value(&wide, 0, 0x1_0007, 1 << 31, 0),
    ];
    let list = hive.cell(&values.iter().flat_map(|cell| cell.to_le_bytes()).collect::<Vec<_>>());
    hive.set(keys[0], 36, 4);
    hive.set(keys[0], 40, list);
    hive.finish(minor, root)
}

#[test]
fn hives_put_together_by_hand_are_read_and_written_soundly() {
    for minor in 3..=6 {
        let hive = Hive::read(assembled(minor)).unwrap();
        assert_eq!(hive.minor_version(), minor);
        let names: Vec<String> = hive.children(Hive::ROOT).iter().map(|id| hive.name(*id)).collect();
        assert_eq!(names, ["Alpha", "beta", "Grün", "Ünïcødé→"]);
        let alpha = hive.find("ALPHA").unwrap();
        assert_eq!(hive.text_at("alpha", "").unwrap(), "Fähre");
        assert_eq!(hive.number_at("alpha", "NUMBER"), Some(0x1234_5678));
        let big = hive.data(hive.value(alpha, "big").unwrap());
        assert!(big.len() == 40_000 && big.iter().enumerate().all(|(n, byte)| usize::from(*byte) == n % 251));
        assert_eq!(hive.value(alpha, "ünÏcødé→").unwrap().kind(), ValueKind(0x1_0007));
        assert_eq!(hive.class(hive.find("beta").unwrap()), "class");
        assert_eq!(hive.security(alpha), DESCRIPTOR);
        let written = hive.write().unwrap();
        let keys = check(&written);
        assert_eq!(keys.len(), 5);
        assert_eq!(keys["\\ALPHA"].1["BIG"].2, big);
        let again = Hive::read(written.clone()).unwrap();
        assert!(compare(&hive, &again, "X").is_empty());
        assert_eq!(again.class(again.find("beta").unwrap()), "class");
        assert_eq!(again.write().unwrap(), written, "writing is stable");
    }
}

#[test]
fn dirty_logs_and_old_hives_are_told_apart() {
    let mut bytes = assembled(5);
    bytes[4] = 9;
    seal(&mut bytes);
    let hive = Hive::read(bytes).unwrap();
    assert!(hive.is_dirty() && hive.notes()[0].contains("transaction logs"));
    check(&hive.write().unwrap());
    for (at, value, class, text) in [
        (24, 2, Class::Unsupported, "version 1.2"),
        (28, 6, Class::Corrupt, "transaction log"),
        (0, 0, Class::Corrupt, "signature"),
        (40, 1, Class::Corrupt, "bins"),
        (36, 12, Class::Corrupt, "cell"),
    ] {
        let mut bytes = assembled(5);
        bytes[at] = value;
        seal(&mut bytes);
        let error = Hive::read(bytes).unwrap_err();
        assert_eq!(error.class(), class, "{error}");
        assert!(error.to_string().contains(text), "{error}");
    }
    let mut bytes = assembled(5);
    bytes[508] ^= 1;
    assert!(Hive::read(bytes).unwrap_err().to_string().contains("checksum"));
}

#[test]
fn damage_ends_with_an_error_that_says_where() {
    let whole = assembled(5);
    for len in [0, 3, 511, 4095, 4096, 4130, whole.len() - 1] {
        assert!(Hive::read(whole[..len].to_vec()).is_err(), "{len}");
    }
    // The list of the root's keys names the root itself.
    let mut hive = Assembler::new();
    let root = hive.key(0x2C, b"ROOT", u32::MAX);
    let security = hive.security();
    let list = hive.list(*b"lh", &[root]);
    hive.set(root, 20, 1);
    hive.set(root, 28, list);
    hive.set(root, 44, security);
    let error = Hive::read(hive.finish(5, root)).unwrap_err();
    assert!(error.to_string().contains("loop") && error.to_string().contains("0x1020"), "{error}");
    // A list of lists of lists, and more entries than there is room for.
    for kind in [*b"ri", *b"lh"] {
        let mut hive = Assembler::new();
        let root = hive.key(0x2C, b"ROOT", u32::MAX);
        let security = hive.security();
        let inner = hive.list(kind, &[32]);
        if kind == *b"lh" {
            hive.set(inner, 0, u32::from(kind[0]) | u32::from(kind[1]) << 8 | 0xFFFF << 16);
        }
        let list = hive.list(*b"ri", &[inner]);
        hive.set(root, 20, 1);
        hive.set(root, 28, list);
        hive.set(root, 44, security);
        assert_eq!(Hive::read(hive.finish(5, root)).unwrap_err().class(), Class::Corrupt);
    }
}

#[test]
fn keys_without_security_stay_without() {
    let mut hive = Assembler::new();
    let root = hive.key(0x2C, b"R", u32::MAX);
    let mut hive = Hive::read(hive.finish(5, root)).unwrap();
    let key = hive.create("A").unwrap();
    assert!(hive.security(key).is_empty());
    let again = Hive::read(hive.write().unwrap()).unwrap();
    assert!(again.find("a").is_some() && again.security(Hive::ROOT).is_empty());
}

#[test]
fn hives_deeper_than_systems_allow_are_refused() {
    let mut hive = Assembler::new();
    let root = hive.key(0x2C, b"R", u32::MAX);
    let security = hive.security();
    hive.set(root, 44, security);
    let mut parent = root;
    for _ in 0..600 {
        let key = hive.key(0x20, b"d", parent);
        hive.set(key, 44, security);
        let list = hive.list(*b"lh", &[key]);
        hive.set(parent, 20, 1);
        hive.set(parent, 28, list);
        parent = key;
    }
    assert_eq!(Hive::read(hive.finish(5, root)).unwrap_err().class(), Class::LimitExceeded);
}

#[test]
fn keys_in_another_order_are_put_right() {
    let mut hive = Assembler::new();
    let root = hive.key(0x2C, b"R", u32::MAX);
    let security = hive.security();
    hive.set(root, 44, security);
    let keys: Vec<u32> = [b"zeta", b"beta", b"Mike"].iter().map(|name| hive.key(0x20, *name, root)).collect();
    keys.iter().for_each(|key| hive.set(*key, 44, security));
    let list = hive.list(*b"lh", &keys);
    hive.set(root, 20, 3);
    hive.set(root, 28, list);
    let hive = Hive::read(hive.finish(5, root)).unwrap();
    assert!(hive.notes()[0].contains("order"));
    assert!(hive.find("mike").is_some() && hive.find("zeta").is_some());
    check(&hive.write().unwrap());
}

#[test]
fn thousands_of_keys_and_large_values_fit() {
    for minor in [3, 5] {
        let mut hive = Hive::new(minor, "BIG", DESCRIPTOR, 1);
        for n in 0..1600 {
            hive.create(&format!("Many\\key {n:05}")).unwrap();
        }
        let key = hive.create("Values").unwrap();
        for len in [0, 1, 4, 5, 16_343, 16_344, 16_345, 32_688, 100_000] {
            hive.set(key, &format!("v{len}"), ValueKind::BINARY, &vec![7; len]).unwrap();
        }
        let bytes = hive.write().unwrap();
        let keys = check(&bytes);
        assert_eq!(keys.len(), 1603);
        assert_eq!(keys["\\VALUES"].1["V32688"].2.len(), 32_688);
        assert!(compare(&hive, &Hive::read(bytes).unwrap(), "").is_empty());
    }
}

#[test]
fn a_hive_of_many_windows_is_written_as_a_whole() {
    // Names and data of all lengths, so that bins end everywhere around the places where parts are passed on.
    let mut hive = Hive::new(5, "ROOT", DESCRIPTOR, 9);
    let mut numbers = neat_testing::image::data::Numbers(3);
    for n in 0..3000_u32 {
        let key = hive.create(&format!("Branch {}\\Key {n}", n % 37)).unwrap();
        let len = (numbers.next() >> 40) as usize % if n % 500 == 0 { 60_000 } else { 3000 };
        let data: Vec<u8> = (0..len).map(|at| (at as u32 ^ n) as u8).collect();
        hive.set(key, "data", ValueKind(3), &data).unwrap();
    }
    let mut parts = Vec::new();
    hive.write_to(&mut |_, part| {
        parts.push(part.to_vec());
        Ok(())
    })
    .unwrap();
    assert!(parts.len() > 4, "{}", parts.len());
    let written = parts.concat();
    assert_eq!(written, hive.write().unwrap());
    assert_eq!(check(&written).len(), 3000 + 37 + 1);
    let again = Hive::read(written.clone()).unwrap();
    assert!(compare(&hive, &again, "X").is_empty());
    assert_eq!(again.write().unwrap(), written);
    // What the receiver says ends it.
    let full = |_, _: &[u8]| Err(neat_content::Error::Cancelled);
    assert!(hive.write_to(&mut { full }).is_err());
}

#[test]
fn security_is_inherited_shared_and_counted() {
    let mut hive = Hive::new(5, "S", DESCRIPTOR, 1);
    let a = hive.create("A").unwrap();
    hive.set_security(a, &[1, 2, 3, 4]);
    let b = hive.create("A\\B").unwrap();
    assert_eq!(hive.security(b), [1, 2, 3, 4]);
    let c = hive.create("C").unwrap();
    hive.set_security(c, &[1, 2, 3, 4]);
    let d = hive.create("D").unwrap();
    hive.set_security(d, b"unused afterwards");
    hive.delete(d);
    check(&hive.write().unwrap());
}

/// An edit of the property test.
#[derive(Clone, Debug)]
enum Edit {
    Create(Vec<u8>),
    Set(Vec<u8>, u8, u32, Vec<u8>),
    DeleteValue(Vec<u8>, u8),
    Delete(Vec<u8>),
    Rename(Vec<u8>, u8),
    Write,
}

fn name(n: u8) -> String {
    ["alpha", "Beta", "gamma ray", "ÄÖ", "日本", "x", "Key.7", "ALPHABET"][usize::from(n % 8)].to_owned()
}

fn path(parts: &[u8]) -> String {
    parts.iter().map(|n| name(*n)).collect::<Vec<_>>().join("\\")
}

fn edits() -> impl Strategy<Value = Vec<Edit>> {
    let path = || proptest::collection::vec(0_u8..8, 1..4);
    let data = proptest::collection::vec(any::<u8>(), 0..9)
        .prop_flat_map(|seed| prop_oneof![8 => Just(seed.clone()), 1 => Just(seed.repeat(3000))]);
    let edit = prop_oneof![
        3 => path().prop_map(Edit::Create),
        6 => (path(), 0_u8..8, 0_u32..12, data).prop_map(|(p, n, k, d)| Edit::Set(p, n, k, d)),
        2 => (path(), 0_u8..8).prop_map(|(p, n)| Edit::DeleteValue(p, n)),
        2 => path().prop_map(Edit::Delete),
        1 => (path(), 0_u8..8).prop_map(|(p, n)| Edit::Rename(p, n)),
        1 => Just(Edit::Write),
    ];
    proptest::collection::vec(edit, 1..60)
}

type Model = BTreeMap<String, BTreeMap<String, (u32, Vec<u8>)>>;

fn edit(model: &mut Model, hive: &mut Hive, edit: &Edit) {
    let upper = |parts: &[u8]| format!("\\{}", path(parts).to_uppercase());
    let create = |model: &mut Model, parts: &[u8]| {
        for n in 1..=parts.len() {
            model.entry(upper(&parts[..n])).or_default();
        }
    };
    match edit {
        Edit::Create(parts) => {
            hive.create(&path(parts)).unwrap();
            create(model, parts);
        }
        Edit::Set(parts, value, kind, data) => {
            let id = hive.create(&path(parts)).unwrap();
            hive.set(id, &name(*value), ValueKind(*kind), data).unwrap();
            create(model, parts);
            let values = model.get_mut(&upper(parts)).unwrap();
            values.insert(name(*value).to_uppercase(), (*kind, data.clone()));
        }
        Edit::DeleteValue(parts, value) => {
            let gone = hive.find(&path(parts)).is_some_and(|id| hive.delete_value(id, &name(*value)));
            let expected = model.get_mut(&upper(parts)).and_then(|v| v.remove(&name(*value).to_uppercase()));
            assert_eq!(gone, expected.is_some());
        }
        Edit::Delete(parts) => {
            if let Some(id) = hive.find(&path(parts)) {
                hive.delete(id);
            }
            let upper = upper(parts);
            model.retain(|key, _| *key != upper && !key.starts_with(&format!("{upper}\\")));
        }
        Edit::Rename(parts, new) => {
            let Some(id) = hive.find(&path(parts)) else { return };
            let old = upper(parts);
            let renamed = [&parts[..parts.len() - 1], &[*new]].concat();
            let target = upper(&renamed);
            let taken = target != old && model.contains_key(&target);
            assert_eq!(hive.rename(id, &name(*new)).is_err(), taken);
            if !taken {
                let moved: Vec<_> = model
                    .keys()
                    .filter(|key| **key == old || key.starts_with(&format!("{old}\\")))
                    .cloned()
                    .collect();
                for key in moved {
                    let values = model.remove(&key).unwrap();
                    model.insert(format!("{target}{}", &key[old.len()..]), values);
                }
            }
        }
        Edit::Write => *hive = Hive::read(hive.write().unwrap()).unwrap(),
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(150))]

    #[test]
    fn edits_do_what_a_plain_map_does(minor in 3_u32..7, edits in edits()) {
        let mut hive = Hive::new(minor, "R", DESCRIPTOR, 5);
        let mut model = Model::from([(String::new(), BTreeMap::new())]);
        for step in &edits {
            edit(&mut model, &mut hive, step);
        }
        let bytes = hive.write().unwrap();
        let read: Model = check(&bytes)
            .into_iter()
            .map(|(path, (_, values))| {
                (path, values.into_iter().map(|(name, (_, kind, data))| (name, (kind, data))).collect())
            })
            .collect();
        prop_assert_eq!(&read, &model);
        // The difference to an empty hive, as text and back, makes the same hive again.
        let empty = Hive::new(minor, "R", DESCRIPTOR, 5);
        let hive = Hive::read(bytes).unwrap();
        let text = RegText::new(compare(&empty, &hive, "HKEY_LOCAL_MACHINE\\SOFTWARE"));
        for encoding in [Encoding::Utf8, Encoding::Utf16Le] {
            let parsed = RegText::read(&encoding.encode(&text.to_text())).unwrap();
            let mut built = empty.clone();
            for line in &parsed.lines {
                let (_, path) = neat_registry::locate(&line.key).unwrap();
                built.apply(&path, &line.change).unwrap();
            }
            prop_assert!(compare(&hive, &built, "").is_empty());
        }
    }

    #[test]
    fn changed_hives_never_panic(at in 0_usize..60_000, value in any::<u8>(), minor in 3_u32..7) {
        let mut bytes = assembled(minor);
        let at = at % bytes.len();
        bytes[at] = value;
        seal(&mut bytes[..4096]);
        if let Ok(hive) = Hive::read(bytes) {
            let _ = hive.write().map(|bytes| check(&bytes).len());
        }
    }
}

#[test]
fn registration_text_says_all_that_systems_export() {
    let text = "Windows Registry Editor Version 5.00\r\n\r\n; a comment\r\n[HKEY_LOCAL_MACHINE\\SOFTWARE\\Brackwater]\r\n@=\"default\"\r\n\"Path\"=\"C:\\\\Ferry \\\"One\\\"\"\r\n\"n\"=dword:0000002a ; forty-two\r\n\"e\"=hex(2):25,00,\\\r\n  41,00,\\\r\n  00,00\r\n\"b\"=hex:01,02\r\n\"q\"=hex(b):01,00,00,00,00,00,00,00\r\n\"none\"=hex(0):\r\n\"odd\"=hex(10007):ff\r\n\"two\"=\"first\r\nsecond\"\r\n\"gone\"=-\r\n\r\n[-HKEY_LOCAL_MACHINE\\SOFTWARE\\Old]\r\n\"ignored\"=\"x\"\r\n[HKEY_CURRENT_USER\\a]b]\r\n";
    let reg = RegText::read(&Encoding::Utf16Le.encode(text)).unwrap();
    assert_eq!(reg.signature, Signature::Version5);
    let of = |n: usize| (reg.lines[n].key.as_str(), &reg.lines[n].change, reg.lines[n].line);
    assert_eq!(of(0), ("HKEY_LOCAL_MACHINE\\SOFTWARE\\Brackwater", &Change::Key, 4));
    let set =
        |name: &str, kind: u32, data: Vec<u8>| Change::Set { name: name.into(), kind: ValueKind(kind), data };
    let expected = [
        set("", 1, text_data("default")),
        set("Path", 1, text_data("C:\\Ferry \"One\"")),
        set("n", 4, vec![42, 0, 0, 0]),
        set("e", 2, text_data("%A")),
        set("b", 3, vec![1, 2]),
        set("q", 11, vec![1, 0, 0, 0, 0, 0, 0, 0]),
        set("none", 0, vec![]),
        set("odd", 0x10007, vec![255]),
        set("two", 1, text_data("first\r\nsecond")),
        Change::DeleteValue { name: "gone".into() },
        Change::DeleteKey,
        Change::Key,
    ];
    assert_eq!(reg.lines.len(), expected.len() + 1);
    for (n, change) in expected.iter().enumerate() {
        assert_eq!(of(n + 1).1, change, "{n}");
    }
    assert_eq!(of(12).0, "HKEY_CURRENT_USER\\a]b");
    let again = RegText::read(&reg.to_bytes()).unwrap();
    let plain = |reg: &RegText| {
        reg.lines.iter().map(|line| (line.key.clone(), line.change.clone())).collect::<Vec<_>>()
    };
    assert_eq!(plain(&again), plain(&reg));
    assert!(reg.to_text().lines().all(|line| line.len() <= 80));
}

#[test]
fn the_older_signature_has_narrow_texts() {
    let text = b"REGEDIT4\n[HKEY_CURRENT_USER\\F\xE4hre]\n\"p\"=hex(2):41,00\n\"m\"=hex(7):e4,00,42,00,00\n";
    let reg = RegText::read(text).unwrap();
    assert_eq!(reg.lines[0].key, "HKEY_CURRENT_USER\\Fähre");
    let Change::Set { data, .. } = &reg.lines[1].change else { panic!() };
    assert_eq!(*data, text_data("A"));
    let Change::Set { data, .. } = &reg.lines[2].change else { panic!() };
    assert_eq!(*data, texts_data(&["ä", "B"]));
    let again = RegText::read(&reg.to_bytes()).unwrap();
    assert_eq!((again.signature, &again.lines[2].change), (Signature::Regedit4, &reg.lines[2].change));
}

#[test]
fn wrong_registration_text_is_reported_with_its_line() {
    for (text, line, expected) in [
        ("", 1, "signature"),
        ("hello\n", 1, "REGEDIT4"),
        ("REGEDIT4\n\"a\"=\"b\"\n", 2, "a key in [ ]"),
        ("REGEDIT4\n[HKEY_X\n", 2, "] at the end"),
        ("REGEDIT4\n[K]\n\"a\"=\"b\n", 3, "closing quotation"),
        ("REGEDIT4\n[K]\n\n\"a\"=dword:123456789\n", 4, "hexadecimal digits"),
        ("REGEDIT4\n[K]\n\"a\"=dword:+1\n", 3, "hexadecimal digits"),
        ("REGEDIT4\n[K]\n\"a\"=hex:1,zz\n", 3, "two hexadecimal"),
        ("REGEDIT4\n[K]\n\"a\"=hex:1,\\\n", 3, "another line"),
        ("REGEDIT4\n[K]\n\"a\"=hex(q):1\n", 3, "hex(type)"),
        ("REGEDIT4\n[K]\n\"a\"=5\n", 3, "quotation marks"),
        ("REGEDIT4\n[K]\n\"a\" \"b\"\n", 3, "= after"),
        ("REGEDIT4\n[K]\n\"a\"=\"b\" c\n", 3, "the end of the line"),
        ("REGEDIT4\nfree text\n", 2, "a key in [ ], a value"),
    ] {
        let error = RegText::parse(text).unwrap_err();
        assert_eq!(error.class(), Class::Corrupt);
        let message = error.to_string();
        assert!(message.starts_with(&format!("line {line}: ")) && message.contains(expected), "{message}");
    }
}

#[test]
fn differences_are_deletions_and_new_values_only() {
    let mut before = Hive::new(5, "R", DESCRIPTOR, 1);
    for (path, value) in [("A", "same"), ("A", "changed"), ("A\\Gone\\Deep", "x"), ("B", "gone")] {
        let key = before.create(path).unwrap();
        before.set(key, value, ValueKind::TEXT, &text_data("1")).unwrap();
    }
    let mut after = before.clone();
    let key = after.find("a").unwrap();
    after.set(key, "CHANGED", ValueKind::NUMBER, &[1, 0, 0, 0]).unwrap();
    after.delete(after.find("A\\Gone").unwrap());
    let b = after.find("B").unwrap();
    after.delete_value(b, "gone");
    let new = after.create("C\\New").unwrap();
    after.set(new, "", ValueKind::EXPANDED, &text_data("%x%")).unwrap();
    let text = RegText::new(compare(&before, &after, "HKEY_LOCAL_MACHINE\\SOFTWARE")).to_text();
    let expected = "Windows Registry Editor Version 5.00\n\n[HKEY_LOCAL_MACHINE\\SOFTWARE\\C]\n\n[HKEY_LOCAL_MACHINE\\SOFTWARE\\C\\New]\n@=hex(2):25,00,78,00,25,00,00,00\n\n[HKEY_LOCAL_MACHINE\\SOFTWARE\\A]\n\"changed\"=dword:00000001\n\n[-HKEY_LOCAL_MACHINE\\SOFTWARE\\A\\Gone]\n\n[HKEY_LOCAL_MACHINE\\SOFTWARE\\B]\n\"gone\"=-\n";
    assert_eq!(text.replace("\r\n", "\n"), expected);
}

#[test]
fn kept_fuzz_inputs_do_not_panic() {
    let folder = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/kept");
    for bytes in neat_testing::kept_inputs(&folder) {
        if let Ok(hive) = Hive::read(bytes.clone()) {
            let written = Hive::read(hive.write().unwrap()).unwrap();
            assert!(compare(&hive, &written, "").is_empty());
        }
        let _ = RegText::read(&bytes);
    }
}

#[test]
fn each_limit_refuses_what_the_others_take() {
    let hive = assembled(5);
    let own = Limits::default();
    assert!(Hive::read_with(hive.as_slice(), &Limits { hive: hive.len() as u64 - 4096, ..own }).is_ok());
    let error = Hive::read_with(hive.as_slice(), &Limits { hive: 4096, ..own }).unwrap_err().to_string();
    assert!(error.contains("at most 4096"), "{error}");
    assert!(Hive::read_with(hive.as_slice(), &Limits { depth: 1, ..own }).is_ok());
    let error = Hive::read_with(hive.as_slice(), &Limits { depth: 0, ..own }).unwrap_err();
    assert!(error.class() == Class::LimitExceeded && error.to_string().contains("levels"), "{error}");
    let text = b"REGEDIT4\r\n\r\n[HKEY_LOCAL_MACHINE\\SOFTWARE\\Quay]\r\n";
    assert!(RegText::read_with(text, &Limits { text: text.len() as u64, ..own }).is_ok());
    let error = RegText::read_with(text, &Limits { text: text.len() as u64 - 1, ..own }).unwrap_err();
    assert_eq!(error.class(), Class::LimitExceeded, "{error}");
}
