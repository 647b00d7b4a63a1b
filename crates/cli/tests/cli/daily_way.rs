//! The README's "daily way" as a script: every line of it, in its order, typed into a shell in the miniature internet.

use std::fs;
use std::path::Path;
use std::process::Command;

use crate::certificates::Seller;
use crate::coast::{Coast, Run, run};

/// How lines end that do not end with 0, by how they begin: something is waited for, or somebody else's turn.
const ENDS: &[(&str, &[i32])] = &[
    // The servers of this machine are found, and do not include this harbor.
    ("init", &[3]),
    ("init --check", &[1, 3]),
    ("attach gullrock.example", &[3]),
    ("account add boatyard", &[3]),
    ("certificate prove", &[3]),
    ("certificate list", &[0, 3]),
    // There is no mail server in this world.
    ("certificate check mail", &[1]),
    ("certificate import", &[0, 3]),
    ("delegation check --all", &[1, 3]),
    ("delegation handover", &[3]),
    ("zone list", &[0, 3]),
    ("tend", &[0, 3]),
];

fn lines() -> Vec<String> {
    let readme = fs::read_to_string(Path::new(env!("CARGO_MANIFEST_DIR")).join("../../README.md")).unwrap();
    let part = readme.split("## The daily way\n").nth(1).unwrap();
    let block = part.lines().skip(1).take_while(|line| line.is_empty() || line.starts_with("    "));
    block.map(|line| line.trim().to_string()).filter(|line| !line.is_empty()).collect()
}

#[test]
fn every_line_of_the_readme_does_what_it_says_in_its_order() {
    let coast = Coast::empty();
    let programs = coast.path("bin");
    fs::create_dir(&programs).unwrap();
    std::os::unix::fs::symlink(env!("CARGO_BIN_EXE_brightharbor"), programs.join("brightharbor")).unwrap();
    let shell = |line: &str, harbor: &Path| -> Run {
        let path = format!("{}:{}", programs.display(), std::env::var("PATH").unwrap_or_default());
        let mut command = Command::new("sh");
        command.args(["-c", line]).current_dir(coast.folder.path()).env("PATH", path);
        run(command.env("BRIGHTHARBOR", harbor).env("NO_COLOR", "1").env("TZ", "UTC").env_remove("COLUMNS"))
    };
    prepare(&coast);
    let seller = Seller::new();
    let lines = lines();
    assert!(lines.len() > 25, "{lines:?}");
    for line in &lines {
        let typed = line.strip_prefix("brightharbor ").unwrap_or_else(|| panic!("not a command of ours: {line}"));
        match typed {
            typed if typed.starts_with("certificate import") => sell(&coast, &seller),
            // Whoever holds the login has done what the handover says.
            typed if typed.starts_with("delegation wait") => coast.delegate_here("gullrock.example"),
            _ => {}
        }
        let harbor = if typed.starts_with("init") { coast.path("found") } else { coast.harbor() };
        let ran = shell(line, &harbor);
        let longest = ENDS.iter().filter(|(start, _)| typed.starts_with(start)).max_by_key(|(start, _)| start.len());
        let ends = longest.map_or(&[0][..], |(_, ends)| ends);
        assert!(ends.contains(&ran.exit), "{line}\n{ran:?}");
        assert!(!ran.stdout.is_empty(), "{line}\n{ran:?}");
    }
}

/// The harbor of the world, its first domain delegated here, a service, and a zone file that somebody has.
fn prepare(coast: &Coast) {
    let settings = coast.path("settings.toml");
    let service = format!(
        "\n[services.post]\nhostname = \"crumbandtide.example\"\nfolder = \"{}\"\nreload = [\"true\"]\n\
         [notify]\ncommand = [\"true\"]\n",
        coast.path("post").display()
    );
    fs::write(&settings, coast.world.settings() + &service).unwrap();
    coast.run(&["init", "--settings", settings.to_str().unwrap()]).expect(0);
    coast.delegate_here("crumbandtide.example");
    let zone = "$TTL 3600\n@ SOA ns1.saltmarsh.example. hostmaster.saltmarsh.example. 1 14400 1800 604800 300\n\
                @ NS ns1.saltmarsh.example.\n@ NS ns2.saltmarsh.example.\n@ A 192.0.2.10\n";
    fs::write(coast.path("gullrock.zone"), zone).unwrap();
}

/// The seller answers the request that was made, by mail, with a bundle.
fn sell(coast: &Coast, seller: &Seller) {
    let requests = coast.harbor().join("requests/gullrock.example");
    let folder = fs::read_dir(requests).unwrap().next().unwrap().unwrap().path();
    let leaf = seller.sell(&fs::read_to_string(folder.join("request.pem")).unwrap());
    fs::write(coast.path("mail-from-the-seller.txt"), format!("Dear customer,\n{leaf}\nyours\n")).unwrap();
    let issuers = coast.path("issuers.pem");
    fs::write(&issuers, seller.root_pem.clone() + &seller.issuer_pem).unwrap();
    let bundle = ["crl2pkcs7", "-nocrl", "-outform", "DER", "-out", "bundle.p7b", "-certfile", "issuers.pem"];
    let made = Command::new("openssl").args(bundle).current_dir(coast.folder.path()).output();
    assert!(made.expect("openssl is missing; run scripts/test").status.success());
    let roots = coast.path("ca-root.pem");
    fs::write(&roots, fs::read_to_string(&roots).unwrap() + &seller.root_pem).unwrap();
}
