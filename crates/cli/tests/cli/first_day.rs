//! docs/first-day.md, word by word: on a copy-on-write view of this machine with the package alone, Debian's nginx and BIND
//! as they are configured, and a small internet in a network namespace of its own: BIND as root, registry and the old host,
//! unbound as everybody's resolver, and pebble as the CA.

use std::fs;
use std::path::Path;
use std::process::{Command, Stdio};

use crate::package::{ENTER, build, project};

/// Runs outside of the page: the small internet, and what an installed machine has already.
const WORLD: &str = r##"
set -eu
export PATH=/usr/local/sbin:/usr/sbin:/sbin:/usr/local/bin:/usr/bin:/bin DEBIAN_FRONTEND=noninteractive
ip link set lo up
unshare -n sleep infinity & world=$!
sleep 0.2
ip link add here type veth peer name there
ip link set there netns $world
ip addr add 192.0.2.10/24 dev here; ip addr add 192.0.2.11/24 dev here; ip link set here up
ip route add default via 192.0.2.1
abroad() { nsenter -t $world -n "$@"; }
abroad ip link set lo up
for address in 1 5 6 7; do abroad ip addr add 192.0.2.$address/24 dev there; done
abroad ip link set there up
mkdir -p /run/named; chown bind:bind /run/named
mkdir -p /tmp/world; cd /tmp/world; chmod 755 /tmp/world
soa='@ 5 SOA dns.oldquay.example. hostmaster.oldquay.example. 1 60 60 600 5'
{ echo "$soa"; printf '. 5 NS a.nic.example.\nexample. 5 NS a.nic.example.\na.nic.example. 5 A 192.0.2.1\n'; } > root
{ echo "$soa"; printf '@ 5 NS a.nic\na.nic 5 A 192.0.2.1\n'
  for name in saltmarsh lighthouse oldquay crumbandtide; do echo "$name 5 NS dns.oldquay"; done
  echo 'dns.oldquay 5 A 192.0.2.5'; } > example
zone() { echo "$soa"; echo '@ 5 NS dns.oldquay.example.'; cat; }
printf 'ns1 5 A 192.0.2.10\nns2 5 A 192.0.2.11\n' | zone > saltmarsh
printf 'acme 5 A 192.0.2.7\n' | zone > lighthouse
printf 'dns 5 A 192.0.2.5\n' | zone > oldquay
printf '@ 5 A 203.0.113.9\nwww 5 A 203.0.113.9\n' | zone > crumbandtide
server() {
  echo "options { directory \"/tmp/world\"; listen-on { $2; }; listen-on-v6 { none; }; recursion no; pid-file \"/tmp/world/$1.pid\";"
  echo " dnssec-validation no; session-keyfile \"/tmp/world/$1.session\"; }; controls { };"
  cat
}
echo 'zone "." { type primary; file "root"; }; zone "example" { type primary; file "example"; };' \
  | server registry 192.0.2.1 > registry.conf
for name in saltmarsh lighthouse oldquay crumbandtide; do
  echo "zone \"$name.example\" { type primary; file \"$name\"; };"
done | server host 192.0.2.5 > host.conf
abroad named -f -c /tmp/world/registry.conf &
abroad named -f -c /tmp/world/host.conf &
printf '. 5 NS a.nic.example.\na.nic.example. 5 A 192.0.2.1\n' > hints
cat > unbound.conf <<CONF
server:
  directory: "/tmp/world"
  chroot: ""
  username: ""
  pidfile: ""
  use-syslog: no
  interface: 192.0.2.6
  access-control: 192.0.2.0/24 allow
  module-config: "iterator"
  root-hints: "/tmp/world/hints"
  cache-max-ttl: 2
  cache-max-negative-ttl: 2
  infra-host-ttl: 2
  do-ip6: no
remote-control:
  control-enable: no
CONF
abroad unbound -d -c /tmp/world/unbound.conf &
echo 'nameserver 192.0.2.6' > /etc/resolv.conf
# The CA, which the machine trusts as it trusts others.
openssl req -x509 -newkey rsa:2048 -nodes -days 9 -subj /CN=acme.lighthouse.example -keyout ca.key \
  -addext subjectAltName=DNS:acme.lighthouse.example -addext basicConstraints=critical,CA:FALSE -out ca.pem 2>/dev/null
printf '%s' '{"pebble":{"listenAddress":"192.0.2.7:443","managementListenAddress":"192.0.2.7:15000","certificate":"/tmp/world/ca.pem","privateKey":"/tmp/world/ca.key","httpPort":80,"tlsPort":443}}' > pebble.json
PEBBLE_VA_NOSLEEP=1 abroad pebble -config /tmp/world/pebble.json -dnsserver 192.0.2.6:53 > pebble.log 2>&1 &
for _ in $(seq 100); do
  curl -sk -o /tmp/world/root.pem https://192.0.2.7:15000/roots/0 && break || sleep 0.1
done
cat ca.pem root.pem >> /etc/ssl/certs/ca-certificates.crt
# What an installation starts; here nobody else does.
apt() {
  [ "$1" = install ] || return 1
  shift
  for package in "$@"; do
    case $package in
      ./*.deb) dpkg -i "$package" ;;
      *) dpkg-query -W -f '${db:Status-Status}' "$package" | grep -qx installed ;;
    esac
  done
  nginx
  rndc-confgen -a 2>/dev/null
  named -u bind -f &
  for _ in $(seq 100); do rndc status > /dev/null 2>&1 && break || sleep 0.1; done
}
# The registrar's customer has entered what was handed over.
registrar() {
  sed -i 's/^crumbandtide 5 NS .*/crumbandtide 5 NS ns1.saltmarsh\ncrumbandtide 5 NS ns2.saltmarsh/; s/ 1 60 60/ 2 60 60/' /tmp/world/example
  kill -HUP "$(cat /tmp/world/registry.pid)"
  sleep 3
}
# A line of the page: it may end with "something waits".
typed() {
  echo "# $1" >&2
  eval "$1" || { ended=$?; [ $ended = 3 ] || { echo "ended with $ended" >&2; cat /tmp/world/pebble.log | tail -20 >&2; exit 1; }; }
}
cd /packages
"##;

/// The lines of the page that are typed, and those that are put into a file, in their order.
fn steps(page: &str) -> Vec<String> {
    let (mut steps, mut edits) = (Vec::new(), 0);
    let mut place: Option<&str> = None;
    for line in page.lines() {
        if let Some(rest) = line.strip_prefix("In `") {
            place = rest.split('`').next();
        }
        let Some(typed) = line.strip_prefix("    ") else { continue };
        match place.take() {
            Some(file) => {
                edits += 1;
                steps.push(match file.contains("nginx") {
                    true => format!("sed -i '/^http {{/a {typed}' {file}"),
                    false => format!("echo '{typed}' >> {file}"),
                });
            }
            None => steps.push(format!("typed '{typed}'")),
        }
        if typed.starts_with("brightharbor init --address") {
            // This internet has a root of its own, which its machines know.
            let known =
                "s/^root-servers = .*/root-servers = [\"192.0.2.1\"]/; s/^resolvers = .*/resolvers = [\"192.0.2.6\"]/";
            steps.push(format!("sed -i '{known}' /etc/brightharbor/harbor.toml"));
        }
        if typed.starts_with("brightharbor delegation handover") {
            steps.push("registrar".into());
        }
    }
    assert_eq!(edits, 2, "no more than the include lines");
    steps
}

#[test]
fn an_administrator_gets_from_nothing_to_the_first_page_over_https() {
    let folder = tempfile::tempdir().unwrap();
    let at = |name: &str| folder.path().join(name);
    ["layers", "packages"].into_iter().for_each(|name| fs::create_dir(at(name)).unwrap());
    build(&at("packages"));
    let page = fs::read_to_string(project().join("docs/first-day.md")).unwrap();
    let steps = steps(&page);
    assert!(steps.len() > 12, "{steps:?}");
    let last = "curl --silent --show-error --fail https://crumbandtide.example/";
    assert!(steps.last().unwrap().contains(last));
    let proof = "brightharbor survey crumbandtide.example --json > /tmp/survey; grep -q '\"exit\": 0' /tmp/survey\n\
                 [ \"$(curl -s -o /dev/null -w '%{http_code}' http://crumbandtide.example/)\" = 301 ]\n\
                 [ \"$(stat -c %U /home/bakery/www/crumbandtide.example)\" = bakery ]\necho it-works\n";
    fs::write(at("trial"), format!("{WORLD}\n{}\n{proof}", steps.join("\n"))).unwrap();
    fs::write(at("enter"), ENTER).unwrap();
    let done = within(&["-m", "-p", "-f", "-n", "--kill-child", "--mount-proc", "bash"], &at("enter"), folder.path());
    let (out, err) = (String::from_utf8_lossy(&done.stdout), String::from_utf8_lossy(&done.stderr));
    assert!(done.status.success() && out.contains("it-works"), "{out}\n{err}");
    assert!(out.contains("<!doctype html>") || out.contains("<html"), "the first page: {out}");
}

fn within(options: &[&str], script: &Path, folder: &Path) -> std::process::Output {
    let mut command = Command::new("timeout");
    command.args(["-s", "KILL", "240", "unshare"]).args(options).arg(script).arg(folder);
    command.stdin(Stdio::null()).output().unwrap()
}
