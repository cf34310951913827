//! Answers given out to machines that ask for them.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs, reason = "tests say what they expect by failing")]

use neat_answer::{Model, Offer, Offered, Secrets, SiteList, Topic};
use std::{net::IpAddr, path::Path};

const SITES: &str = "name,serial,address,room\nLAB-1,BF 70/01,192.0.2.11,North\nLAB-2,bf-2,192.0.2.12/24,South\nLAB-3,,,East\n";

fn offer(
    model: &str,
    sites: Option<&str>,
    accepted: &[Topic],
    with_secrets: bool,
) -> neat_content::Result<Offer> {
    let model = Model::parse(&format!("format = 1\n{model}")).unwrap();
    let base = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/data");
    let mut secrets = Secrets { base, ..Secrets::default() };
    let list = sites.map(|text| SiteList::parse(text).unwrap());
    Offer::new(&model, &mut secrets, list, accepted, with_secrets)
}

fn text(offered: Offered) -> String {
    match offered {
        Offered::File(bytes) => String::from_utf8(bytes).unwrap(),
        other => panic!("{other:?}"),
    }
}

fn from(address: &str) -> IpAddr {
    address.parse().unwrap()
}

#[test]
fn a_machine_gets_its_own_answers_however_it_is_called() {
    let own = offer("[machine]\nname = \"{name}\"\n", Some(SITES), &[], false).unwrap();
    let nobody = from("198.51.100.1");
    for (key, name) in [
        ("LAB-1", "LAB-1"),
        ("lab-2", "LAB-2"),
        ("BF7001", "LAB-1"),
        ("bf 70/01", "LAB-1"),
        ("BF-2", "LAB-2"),
        ("192.0.2.12", "LAB-2"),
        ("LAB-3", "LAB-3"),
    ] {
        for (file, said) in [
            ("preseed.cfg", format!("netcfg/hostname string {name}\n")),
            ("ks.cfg", format!("--hostname={name}\n")),
            ("autoinst.xml", format!("<hostname>{name}</hostname>")),
            ("AUTOINST.XML", format!("<hostname>{name}</hostname>")),
        ] {
            let text = text(own.get(&format!("{key}/{file}"), nobody));
            assert!(text.contains(&said), "{key}/{file}: {text}");
        }
    }
    // Who says nothing is known by the address alone.
    assert!(text(own.get("preseed.cfg", from("192.0.2.12"))).contains("string LAB-2\n"));
    assert_eq!(own.get("preseed.cfg", nobody), Offered::Nothing);
    for path in [
        "LAB-4/preseed.cfg",
        "LAB-1/passwd",
        "LAB-1/",
        "/preseed.cfg",
        "",
        "../LAB-1/preseed.cfg",
        "LAB-1/../x",
    ] {
        assert_eq!(own.get(path, nobody), Offered::Nothing, "{path}");
    }
    // What an installer asks for beside them has nothing in it.
    assert_eq!(own.get("LAB-1/meta-data", nobody), Offered::File(Vec::new()));
    assert_eq!(own.get("LAB-4/meta-data", nobody), Offered::Nothing);
}

#[test]
fn without_a_list_everybody_gets_the_same() {
    let own = offer("[machine]\nname = \"KIOSK-1\"\n", None, &[], false).unwrap();
    assert!(text(own.get("ks.cfg", from("::1"))).contains("--hostname=KIOSK-1"));
    assert_eq!(own.get("KIOSK-1/ks.cfg", from("::1")), Offered::Nothing);
}

#[test]
fn secrets_and_faults_are_not_given_out() {
    let refused = |offer: &Offer, file: &str| match offer.get(file, from("::1")) {
        Offered::Refused(why) => why,
        other => panic!("{other:?}"),
    };
    let account = "[administrator]\nenabled = false\n[[account]]\nname = \"helm\"\npassword = ";
    for secret in ["{ file = \"secret.txt\" }", "{ hash = \"$6$a$b\" }"] {
        let closed = offer(&format!("{account}{secret}"), None, &[], false).unwrap();
        for file in ["preseed.cfg", "ks.cfg", "autoinst.xml", "user-data", "autounattend.xml"] {
            let accepted = offer(&format!("{account}{secret}"), None, &[Topic::Unsaid], false).unwrap();
            assert!(refused(&accepted, file).contains("passwords"), "{file}");
        }
        assert!(refused(&closed, "ks.cfg").contains("passwords"));
        let open = offer(&format!("{account}{secret}"), None, &[], true).unwrap();
        assert!(text(open.get("ks.cfg", from("::1"))).contains("--iscrypted"));
    }
    let wireless = "[network]\nwireless = { name = \"Harbour\", password = { file = \"secret.txt\" } }";
    assert!(refused(&offer(wireless, None, &[], false).unwrap(), "ks.cfg").contains("passwords"));

    let asks = offer("[[account]]\nname = \"helm\"\n", None, &[], true).unwrap();
    assert!(refused(&asks, "preseed.cfg").contains("topic asks"));
    let accepted = offer("[[account]]\nname = \"helm\"\n", None, &[Topic::Asks], true).unwrap();
    assert!(text(accepted.get("preseed.cfg", from("::1"))).contains("passwd/username string helm"));
    let on_media =
        "[[script]]\nname = \"a.sh\"\nstage = \"system-installed\"\ntext = \"x\"\ncarried = \"media\"";
    assert!(refused(&offer(on_media, None, &[], false).unwrap(), "ks.cfg").contains("only a media has"));

    // What is wrong with all of it is said before anybody asks.
    let erasing = "[[disk]]\ndevice = \"sda\"\nwipe = true\n";
    let error = offer(erasing, None, &[], false).err().unwrap();
    assert!(
        error.to_string().contains("erases everything on sda") && error.hint().to_string().contains("erases"),
        "{error}"
    );
    assert!(offer(&format!("erases = \"yes\"\n{erasing}"), None, &[], false).is_ok());
    let error = offer("[machine]\nname = \"{desk}\"\n", Some(SITES), &[], false).err().unwrap();
    assert!(error.to_string().contains("{desk}"), "{error}");
}
