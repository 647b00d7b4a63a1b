//! Hundreds of zones in one call on real BIND, Knot DNS and NSD: how often the servers' own programs are started, and
//! that each zone is served afterwards.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use super::nameservers::{start_knot, start_nsd};
use super::quay::Quay;
use super::servers::need;

/// As many as one call is asked to bring.
const ZONES: usize = 500;

/// A program of the same name that leaves a mark at each start.
fn marked(folder: &Path, program: &Path) -> PathBuf {
    let bin = folder.join("bin");
    fs::create_dir_all(&bin).unwrap();
    let name = program.file_name().unwrap();
    let (script, marks) = (bin.join(name), folder.join("marks"));
    let line =
        format!("#!/bin/sh\necho {} >> {}\nexec {} \"$@\"\n", name.display(), marks.display(), program.display());
    fs::write(&script, line).unwrap();
    fs::set_permissions(&script, fs::Permissions::from_mode(0o755)).unwrap();
    script
}

/// The programs that were started since the last time.
fn marks(quay: &Quay) -> Vec<String> {
    let text = fs::read_to_string(quay.path("marks")).unwrap_or_default();
    let _ = fs::remove_file(quay.path("marks"));
    text.lines().map(String::from).collect()
}

/// The quay's programs leave marks from now on.
fn mark(quay: &Quay, control: &str, check: &[&str]) {
    let toml = quay.path("harbor/harbor.toml");
    let mut text = fs::read_to_string(&toml).unwrap();
    for program in std::iter::once(&control).chain(check) {
        let program = need(program, "bind9, knot or nsd");
        let script = marked(quay.folder.path(), &program);
        text = text.replace(&format!("\"{}\"", program.display()), &format!("\"{}\"", script.display()));
    }
    fs::write(toml, text).unwrap();
}

/// `orders` is how often the control program is started for the new zones.
fn many_in_one_call(quay: &Quay, orders: usize) {
    let names: Vec<String> = (0..ZONES).map(|number| format!("berth{number}.example")).collect();
    let call = |command: &[&str]| -> (Vec<String>, f64, crate::coast::Run) {
        let mut arguments = command.to_vec();
        if command[0] == "attach" {
            arguments.extend(names.iter().map(String::as_str));
        }
        let begun = std::time::Instant::now();
        let run = quay.run(&arguments);
        (marks(quay), begun.elapsed().as_secs_f64(), run)
    };
    let (starts, seconds, run) = call(&["attach", "--account", "boatyard"]);
    assert_eq!(run.exit, 3, "{}", run.stderr);
    assert!(starts.len() <= orders + 5, "{}: {:?}", starts.len(), &starts[..10]);
    // Without optimisation, beside other tests; a release build needs a third.
    assert!(seconds < 30.0, "{seconds} s");
    let listed = quay.json(&["zone", "list"], 0);
    assert_eq!(listed["zones"].as_array().unwrap().len(), ZONES);

    // All of them get another address.
    let toml = quay.path("harbor/harbor.toml");
    let text = fs::read_to_string(&toml).unwrap();
    fs::write(&toml, text.replace("192.0.2.10", "192.0.2.20")).unwrap();
    let (starts, seconds, run) = call(&["zone", "realign", "--all"]);
    assert_eq!(run.exit, 0, "{run:?}");
    assert!(starts.len() <= 6, "{}: {:?}", starts.len(), &starts[..10]);
    assert!(seconds < 30.0, "{seconds} s");
    for zone in ["berth0.example", "berth499.example"] {
        let shown = quay.json(&["zone", "show", zone], 0);
        assert_eq!(shown["servers"][0]["in_step"], true, "{shown}");
    }
}

#[test]
fn hundreds_of_zones_cost_bind_a_handful_of_starts() {
    let quay = Quay::bind("", "", "");
    mark(&quay, "rndc", &["named-checkzone", "named-checkconf"]);
    many_in_one_call(&quay, 1);
}

/// `rndc` takes one new zone a start.
#[test]
fn hundreds_of_zones_that_bind_remembers_itself() {
    let quay = Quay::bind("new-zones = \"addzone\"\n", "", "allow-new-zones yes;");
    mark(&quay, "rndc", &["named-checkzone", "named-checkconf"]);
    many_in_one_call(&quay, ZONES);

    // One of them is refused midway: the server has to forget those before it, and those that were begun beside it.
    let (script, rndc) = (quay.path("bin/rndc"), need("rndc", "bind9-utils"));
    let refusing = "#!/bin/sh\ncase \"$*\" in *\"addzone pile20.\"*) echo out of order; exit 1;; esac\nexec";
    fs::write(script, format!("{refusing} {} \"$@\"\n", rndc.display())).unwrap();
    let piles: Vec<String> = (0..40).map(|number| format!("pile{number}.example")).collect();
    let arguments: Vec<&str> =
        ["attach", "--account", "boatyard"].into_iter().chain(piles.iter().map(String::as_str)).collect();
    let refused = quay.run(&arguments).expect(5);
    assert!(refused.contains("out of order") && refused.contains("rolled back"), "{refused}");
    for pile in &piles {
        let known = quay.says(&["zonestatus", pile]);
        assert!(known.contains("no matching zone") || known.contains("not found"), "{pile}: {known}");
    }
    assert_eq!(quay.json(&["zone", "list"], 0)["zones"].as_array().unwrap().len(), ZONES);
}

#[test]
fn hundreds_of_zones_cost_knot_a_handful_of_starts() {
    let quay = Quay::new("knot", "kzonecheck", "", |world, folder| {
        let list = folder.join("harbor/servers/knot/zones.conf");
        let at = (world.cast.nameservers()[0], world.cast.dns_port).into();
        start_knot(folder, at, &format!("include: \"{}\"\n", list.display()))
    });
    mark(&quay, "knotc", &["kzonecheck"]);
    many_in_one_call(&quay, 1);
}

#[test]
fn hundreds_of_zones_cost_nsd_a_handful_of_starts() {
    let quay = Quay::new("nsd", "nsd-checkzone", "", |world, folder| {
        let list = folder.join("harbor/servers/nsd/zones.conf");
        let at = (world.cast.nameservers()[0], world.cast.dns_port).into();
        start_nsd(folder, at, &format!("include: \"{}\"\n", list.display()))
    });
    mark(&quay, "nsd-control", &["nsd-checkzone"]);
    many_in_one_call(&quay, 1);
}
