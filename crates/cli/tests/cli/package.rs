//! The Debian package: what lintian says of it, and its life on a machine: installed, a harbor made with it, upgraded, removed,
//! purged. It is tried on a copy-on-write view of this machine, of which nothing stays.

use std::fs;
use std::path::Path;
use std::process::{Command, Output, Stdio};

/// Lies in the view of the machine as `/trial`; `/packages` holds both versions.
const TRIAL: &str = r#"
set -eux
export DEBIAN_FRONTEND=noninteractive
# Images of machines leave manual pages out.
rm -rf /etc/dpkg/dpkg.cfg.d
installed() { dpkg-query -W -f '${db:Status-Status}' brightharbor; }
dpkg -i /packages/first.deb
[ "$(installed)" = installed ]
test "$(command -v brightharbor)" = /usr/bin/brightharbor
for page in brightharbor brightharbor-attach brightharbor-certificate-issue; do
  test -e /usr/share/man/man1/$page.1.gz
done
# The timers come with the machine's next start, and do nothing as long as there is no harbor.
test -L /etc/systemd/system/timers.target.wants/brightharbor-tend.timer
test -L /etc/systemd/system/timers.target.wants/brightharbor-survey.timer
systemd-analyze verify --man=no brightharbor-tend.service brightharbor-tend.timer brightharbor-survey.service brightharbor-survey.timer
# The whole example without a compiler, a harbor or privileges.
setpriv --reuid=nobody --regid=nogroup --clear-groups env HOME=/tmp brightharbor demo > /tmp/demo
grep -q 'Every step ended as expected' /tmp/demo

# The example of harbor.toml has all keys and sets none; with its comments taken away it is one.
grep -qv '^#\|^$' /usr/share/doc/brightharbor/examples/harbor.toml && exit 1
brightharbor init --address 192.0.2.10 --nameserver ns1.saltmarsh.example --web none --dns none || [ $? = 3 ]
test -f /etc/brightharbor/harbor.toml
test "$(readlink /var/lib/brightharbor/harbor.toml)" = /etc/brightharbor/harbor.toml
brightharbor init --address 192.0.2.11 --yes
grep -q '192.0.2.11' /etc/brightharbor/harbor.toml
test -L /var/lib/brightharbor/harbor.toml
brightharbor account add bakery --email baker@saltmarsh.example --home /srv/bakery

# Settings that are there before the harbor are taken as they are.
mv /var/lib/brightharbor /tmp/away
cp /etc/brightharbor/harbor.toml /tmp/before
! brightharbor init --address 192.0.2.12
brightharbor init || [ $? = 3 ]
cmp /tmp/before /etc/brightharbor/harbor.toml
test -L /var/lib/brightharbor/harbor.toml
rm -r /var/lib/brightharbor
mv /tmp/away /var/lib/brightharbor

# What an administrator has changed survives an upgrade, and so does a timer that was switched off.
sed -i 's/rotate 14/rotate 90/' /etc/logrotate.d/brightharbor
systemctl disable brightharbor-survey.timer
dpkg -i /packages/second.deb < /dev/null
dpkg-query -W -f '${Version}' brightharbor | grep -q '+later'
grep -q 'rotate 90' /etc/logrotate.d/brightharbor
test ! -e /etc/systemd/system/timers.target.wants/brightharbor-survey.timer
test -L /etc/systemd/system/timers.target.wants/brightharbor-tend.timer
brightharbor account list | grep -q baker@saltmarsh.example

dpkg -r brightharbor
test ! -e /usr/bin/brightharbor
test ! -e /usr/share/man/man1/brightharbor.1.gz
test -e /etc/brightharbor/harbor.toml
dpkg -i /packages/first.deb
brightharbor account list | grep -q baker@saltmarsh.example

dpkg -P brightharbor 2> /tmp/told
grep -q '/var/lib/brightharbor and /etc/brightharbor stay' /tmp/told
test ! -e /etc/logrotate.d/brightharbor
test ! -e /etc/systemd/system/timers.target.wants/brightharbor-tend.timer
test -e /var/lib/brightharbor/inventory.sqlite
test -e /etc/brightharbor/harbor.toml
"#;

/// Makes the view, and runs the trial in it.
pub const ENTER: &str = r#"
set -eu
work=$1
mount --make-rprivate /
mount -t tmpfs none "$work/layers"
mkdir "$work/layers/new" "$work/layers/work" "$work/layers/root"
mount -t overlay overlay -o "lowerdir=/,upperdir=$work/layers/new,workdir=$work/layers/work" "$work/layers/root"
cd "$work/layers/root"
mount -t proc proc proc; mount --rbind /dev dev
for folder in run tmp var/tmp; do mount -t tmpfs none $folder; done
mkdir -p packages; mount --bind "$work/packages" packages
cp "$work/trial" trial
ip link set lo up
exec chroot . /bin/bash /trial
"#;

fn run(command: &mut Command) -> Output {
    let output = command.stdin(Stdio::null()).output().unwrap_or_else(|error| panic!("{command:?}: {error}"));
    let (out, err) = (String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr));
    assert!(output.status.success(), "{command:?}: {:?}\n{out}\n{err}", output.status);
    output
}

pub fn project() -> &'static Path {
    Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/../.."))
}

/// Builds the package around the binary of the tests.
pub fn build(into: &Path) -> std::path::PathBuf {
    run(Command::new(project().join("scripts/package"))
        .env("BUILT", env!("CARGO_BIN_EXE_brightharbor"))
        .env("OUT", into)
        .env("COMPRESS", "-z1"));
    let mut all = fs::read_dir(into).unwrap().map(|entry| entry.unwrap().path());
    all.find(|path| path.extension().is_some_and(|ending| ending == "deb")).unwrap()
}

#[test]
fn the_package_is_installed_upgraded_removed_and_purged() {
    let folder = tempfile::tempdir().unwrap();
    let at = |name: &str| folder.path().join(name);
    ["layers", "packages", "built"].into_iter().for_each(|name| fs::create_dir(at(name)).unwrap());
    let package = build(&at("built"));

    // Of the binary of the tests alone: it is linked at a fixed address.
    let strict = ["--allow-root", "--fail-on", "error,warning", "--suppress-tags", "hardening-no-pie"];
    let told = run(Command::new("lintian").args(strict).arg(&package));
    assert_eq!(String::from_utf8_lossy(&told.stdout), "", "lintian has something to say");

    fs::copy(&package, at("packages/first.deb")).unwrap();
    run(Command::new("dpkg-deb").arg("-R").arg(&package).arg(at("unpacked")));
    let control = at("unpacked/DEBIAN/control");
    let text = fs::read_to_string(&control).unwrap();
    let version = text.lines().find(|line| line.starts_with("Version: ")).unwrap();
    fs::write(&control, text.replace(version, &format!("{version}+later"))).unwrap();
    run(Command::new("dpkg-deb")
        .args(["-z1", "--root-owner-group", "--build"])
        .arg(at("unpacked"))
        .arg(at("packages/second.deb")));

    fs::write(at("trial"), TRIAL).unwrap();
    fs::write(at("enter"), ENTER).unwrap();
    run(Command::new("unshare")
        .args(["-m", "-p", "-f", "-n", "--mount-proc", "bash"])
        .arg(at("enter"))
        .arg(folder.path()));
}
