//! Examples for every command, in the scenario of the demo. A test has the parser read them all.

/// The path of a command, and lines that can be typed as they stand, without the program's own name.
const EXAMPLES: &[(&str, &[&str])] = &[
    (
        "init",
        &[
            "init --address 192.0.2.10 --nameserver ns1.saltmarsh.example",
            "init --check",
            "init --settings harbor.toml",
        ],
    ),
    #[cfg(feature = "demo")]
    ("demo", &["demo", "demo --keep"]),
    ("manual", &["manual --to /usr/local/share"]),
    (
        "account add",
        &[
            "account add bakery --email baker@saltmarsh.example",
            "account add boatyard --email yard@saltmarsh.example --domain gullrock.example",
        ],
    ),
    (
        "account change",
        &[
            "account change bakery --plan small",
            "account change bakery --home /srv/homes/bakery   # moved before, by hand",
        ],
    ),
    ("account list", &["account list", "account list --reseller boatyard"]),
    ("account remove", &["account remove choir", "account remove choir --sites detach --zones-to bakery"]),
    ("account show", &["account show bakery"]),
    ("plan add", &["plan add small --addon-domains 1 --subdomains 5", "plan add large --like small --scripts 10"]),
    ("plan change", &["plan change small --redirects 20"]),
    ("plan list", &["plan list"]),
    ("plan remove", &["plan remove small"]),
    ("plan show", &["plan show small"]),
    (
        "attach",
        &[
            "attach crumbandtide.example --account bakery",
            "attach gullrock.example --account bakery --same-as crumbandtide.example   # an alias domain",
            "attach shop.crumbandtide.example --account bakery --serve php:8.2",
            "attach --from-file hostnames.txt --account bakery --zone elsewhere --dry-run",
        ],
    ),
    ("detach", &["detach gullrock.example", "detach gullrock.example --zone remove"]),
    (
        "site change",
        &[
            "site change crumbandtide.example --www to-bare --hsts 26w",
            "site change crumbandtide.example --serve /tides=http://127.0.0.1:3000",
            "site change crumbandtide.example --https forced",
        ],
    ),
    ("site list", &["site list", "site list --account bakery", "site list --stops-at delegated"]),
    ("site log", &["site log crumbandtide.example --lines 50"]),
    (
        "site protect",
        &[
            "site protect crumbandtide.example --path /office --user anna --password-file anna.txt",
            "site protect crumbandtide.example --path /office --from 192.0.2.0/24",
            "site protect crumbandtide.example --path /office --off",
        ],
    ),
    ("site realign", &["site realign --dry-run", "site realign --all"]),
    ("site show", &["site show crumbandtide.example"]),
    (
        "zone change",
        &[
            "zone change gullrock.example --mail here",
            "zone change gullrock.example --sign",
            "zone change gullrock.example --soa-mailbox hostmaster.saltmarsh.example.",
        ],
    ),
    ("zone check", &["zone check gullrock.example", "zone check --file gullrock.zone --origin gullrock.example"]),
    ("zone compare", &["zone compare gullrock.example"]),
    (
        "zone create",
        &[
            "zone create gullrock.example --account boatyard",
            "zone create gullrock.example --account boatyard --from gullrock.zone",
            "zone create gullrock.example --account boatyard --from-server   # one that the DNS server has already",
        ],
    ),
    ("zone list", &["zone list", "zone list --account boatyard --files-only"]),
    ("zone load", &["zone load gullrock.example", "zone load --all"]),
    ("zone move", &["zone move gullrock.example --to coast", "zone move --all --to host --dry-run"]),
    (
        "zone prepare-move",
        &["zone prepare-move gullrock.example --ttl 5m", "zone prepare-move gullrock.example --back"],
    ),
    ("zone print", &["zone print gullrock.zone --origin gullrock.example"]),
    ("zone publish", &["zone publish"]),
    ("zone realign", &["zone realign --dry-run", "zone realign gullrock.example"]),
    ("zone remove", &["zone remove gullrock.example"]),
    ("zone show", &["zone show gullrock.example"]),
    (
        "record add",
        &[
            "record add crumbandtide.example MX \"10 mail.provider.example\"",
            "record add tides TXT \"high water at noon\" --zone crumbandtide.example --ttl 5m",
            "record add @ A 192.0.2.10 --file gullrock.zone --origin gullrock.example",
        ],
    ),
    (
        "record list",
        &["record list crumbandtide.example", "record list --file gullrock.zone --origin gullrock.example"],
    ),
    (
        "record remove",
        &[
            "record remove crumbandtide.example MX",
            "record remove tides.crumbandtide.example TXT \"high water at noon\"",
        ],
    ),
    ("record replace", &["record replace tides.crumbandtide.example A 192.0.2.11 192.0.2.12 --watch"]),
    (
        "redirect add",
        &[
            "redirect add crumbandtide.example/old https://quay.example/new --permanent",
            "redirect add crumbandtide.example/sale /bread --until 2027-01-31",
            "redirect add crumbandtide.example/blog https://quay.example --keep-path",
        ],
    ),
    ("redirect list", &["redirect list", "redirect list --with quay.example"]),
    ("redirect remove", &["redirect remove crumbandtide.example/old"]),
    ("redirect show", &["redirect show crumbandtide.example/old"]),
    ("redirect try", &["redirect try crumbandtide.example/old"]),
    ("nameserver add", &["nameserver add own ns1.gullrock.example=192.0.2.53 ns2.gullrock.example=198.51.100.53"]),
    ("nameserver change", &["nameserver change own ns1.gullrock.example=192.0.2.54"]),
    ("nameserver check", &["nameserver check own"]),
    ("nameserver list", &["nameserver list"]),
    ("nameserver remove", &["nameserver remove own"]),
    ("nameserver show", &["nameserver show own"]),
    (
        "delegation check",
        &[
            "delegation check gullrock.example",
            "delegation check --all",
            "delegation check --from-file domains.txt --json",
        ],
    ),
    ("delegation handover", &["delegation handover gullrock.example"]),
    ("delegation wait", &["delegation wait gullrock.example --for 4h"]),
    ("ca change-key", &["ca change-key"]),
    ("ca close", &["ca close lighthouse"]),
    ("ca list", &["ca list"]),
    ("ca tell-contact", &["ca tell-contact"]),
    (
        "certificate check",
        &[
            "certificate check crumbandtide.example",
            "certificate check mail.crumbandtide.example:587",
            "certificate check --all --json",
        ],
    ),
    (
        "certificate import",
        &[
            "certificate import mail-from-the-seller.txt bundle.p7b",
            "certificate import gullrock.p12 --password-file word.txt",
        ],
    ),
    (
        "certificate install",
        &["certificate install", "certificate install --site crumbandtide.example --former 3   # back to a former one"],
    ),
    (
        "certificate issue",
        &[
            "certificate issue crumbandtide.example",
            "certificate issue crumbandtide.example --wildcard --key p384",
            "certificate issue --account bakery --dry-run",
        ],
    ),
    (
        "certificate list",
        &[
            "certificate list",
            "certificate list --coverage",
            "certificate list --expiring 30",
            "certificate list --under-way",
        ],
    ),
    (
        "certificate prove",
        &[
            "certificate prove gullrock.example --record \"_5f3a CNAME 9c1e.seller.example.\"",
            "certificate prove gullrock.example --file proof.txt --at /.well-known/proof.txt",
        ],
    ),
    ("certificate renew", &["certificate renew crumbandtide.example --dry-run"]),
    (
        "certificate request",
        &["certificate request gullrock.example --organization \"Gullrock Boatyard\" --country NL"],
    ),
    ("certificate revoke", &["certificate revoke crumbandtide.example --reason key-compromise"]),
    ("certificate self-sign", &["certificate self-sign gullrock.example --days 30"]),
    ("certificate show", &["certificate show bundle.p7b"]),
    ("survey", &["survey crumbandtide.example", "survey --all --notify", "survey --account bakery --json"]),
    ("report", &["report --to /srv/report", "report --to /srv/report --unasked"]),
    ("tend", &["tend", "tend --metrics /var/lib/node/brightharbor.prom"]),
    ("load", &["load harbor-list.toml --dry-run", "load hostnames.csv", "load --write harbor-list.toml"]),
    ("logbook show", &["logbook show 12"]),
    ("undo", &["undo --dry-run", "undo 12"]),
    ("explain", &["explain glue-missing", "explain"]),
];

/// The examples of a command, by its path.
pub(super) fn of(path: &str) -> &'static [&'static str] {
    EXAMPLES.iter().find(|(known, _)| *known == path).map_or(&[], |(_, lines)| lines)
}

#[cfg(test)]
pub(super) fn paths() -> impl Iterator<Item = &'static str> {
    EXAMPLES.iter().map(|(path, _)| *path)
}
