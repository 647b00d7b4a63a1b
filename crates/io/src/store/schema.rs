//! The tables, and what brings those of an older version up to date.

// Each later version adds what it changes to MIGRATIONS.
// In all SQL here the numbered parameters must first appear in ascending order: SQLite counts them by appearance.
pub(super) const VERSION: i64 = 17;

pub(super) const TABLES: &str = "
CREATE TABLE plan (
    name TEXT PRIMARY KEY, limits TEXT NOT NULL
) STRICT, WITHOUT ROWID;
CREATE TABLE account (
    name TEXT PRIMARY KEY, email TEXT NOT NULL, home TEXT NOT NULL, system_user TEXT,
    plan TEXT REFERENCES plan(name), nameserver_set TEXT, reseller TEXT REFERENCES account(name)
) STRICT, WITHOUT ROWID;
CREATE INDEX account_by_reseller ON account(reseller);
CREATE TABLE nameserver_set (
    name TEXT PRIMARY KEY, value TEXT NOT NULL
) STRICT, WITHOUT ROWID;
CREATE TABLE site (
    main TEXT PRIMARY KEY, account TEXT NOT NULL REFERENCES account(name), document_root TEXT NOT NULL,
    kind TEXT NOT NULL, certificate_folder TEXT, rules TEXT NOT NULL DEFAULT '{}'
) STRICT, WITHOUT ROWID;
CREATE INDEX site_by_account ON site(account);
CREATE INDEX site_by_root ON site(document_root);
CREATE TABLE hostname (
    name TEXT PRIMARY KEY, site TEXT NOT NULL REFERENCES site(main), position INTEGER NOT NULL,
    https TEXT NOT NULL DEFAULT 'none'
) STRICT, WITHOUT ROWID;
CREATE INDEX hostname_by_site ON hostname(site, position);
CREATE INDEX hostname_without_https ON hostname(site) WHERE https = 'none';
CREATE TABLE pattern (
    key TEXT PRIMARY KEY, value TEXT NOT NULL
) STRICT, WITHOUT ROWID;
CREATE TABLE zone (
    name TEXT PRIMARY KEY, account TEXT NOT NULL REFERENCES account(name), home TEXT NOT NULL,
    primary_server TEXT, nameserver_set TEXT, pattern TEXT REFERENCES pattern(key),
    prepared TEXT, loaded TEXT, signing TEXT
) STRICT, WITHOUT ROWID;
CREATE TABLE certificate (
    site TEXT PRIMARY KEY REFERENCES site(main), names TEXT NOT NULL, folder TEXT NOT NULL,
    not_before TEXT NOT NULL, not_after TEXT NOT NULL, state TEXT NOT NULL, source TEXT NOT NULL DEFAULT 'ca',
    details TEXT NOT NULL DEFAULT '{}'
) STRICT, WITHOUT ROWID;
CREATE TABLE former_certificate (
    folder TEXT PRIMARY KEY, site TEXT NOT NULL, ended INTEGER NOT NULL, revoked INTEGER NOT NULL DEFAULT 0
) STRICT, WITHOUT ROWID;
CREATE INDEX former_certificate_by_end ON former_certificate(ended);
CREATE TABLE revocation (
    folder TEXT PRIMARY KEY, site TEXT NOT NULL, ca TEXT NOT NULL, reason TEXT NOT NULL, not_after TEXT NOT NULL
) STRICT, WITHOUT ROWID;
CREATE TABLE waiting (
    site TEXT PRIMARY KEY REFERENCES site(main), since TEXT NOT NULL, not_before TEXT, reason TEXT NOT NULL
) STRICT, WITHOUT ROWID;
CREATE TABLE name_pause (
    name TEXT PRIMARY KEY, site TEXT NOT NULL REFERENCES site(main), since TEXT NOT NULL, not_before INTEGER NOT NULL,
    reason TEXT NOT NULL
) STRICT, WITHOUT ROWID;
CREATE INDEX name_pause_by_site ON name_pause(site);
CREATE TABLE handover (
    domain TEXT PRIMARY KEY, asked INTEGER NOT NULL, nameservers TEXT NOT NULL
) STRICT, WITHOUT ROWID;
CREATE TABLE notice (
    topic TEXT NOT NULL, subject TEXT NOT NULL, code TEXT, since INTEGER NOT NULL, told INTEGER NOT NULL,
    PRIMARY KEY (topic, subject)
) STRICT, WITHOUT ROWID;
CREATE TABLE logbook (
    id INTEGER PRIMARY KEY AUTOINCREMENT, at TEXT NOT NULL, who TEXT NOT NULL, title TEXT NOT NULL,
    changes TEXT NOT NULL, inverses TEXT NOT NULL, outcome TEXT NOT NULL, detail TEXT NOT NULL
) STRICT;
CREATE INDEX logbook_unfinished ON logbook(outcome) WHERE outcome = 'begun';
";

/// What brings an inventory of a version to the next one, the first for version 1.
pub(super) const MIGRATIONS: &[&str] = &[
    "
CREATE TABLE pattern (
    key TEXT PRIMARY KEY, value TEXT NOT NULL
) STRICT, WITHOUT ROWID;
ALTER TABLE zone ADD COLUMN primary_server TEXT;
ALTER TABLE zone ADD COLUMN nameserver_set TEXT;
ALTER TABLE zone ADD COLUMN pattern TEXT REFERENCES pattern(key);
",
    "ALTER TABLE site ADD COLUMN rules TEXT NOT NULL DEFAULT '{}'; CREATE INDEX site_by_root ON site(document_root);",
    "
CREATE TABLE plan (
    name TEXT PRIMARY KEY, limits TEXT NOT NULL
) STRICT, WITHOUT ROWID;
ALTER TABLE account ADD COLUMN plan TEXT REFERENCES plan(name);
",
    "
ALTER TABLE account ADD COLUMN nameserver_set TEXT;
ALTER TABLE account ADD COLUMN reseller TEXT REFERENCES account(name);
CREATE INDEX account_by_reseller ON account(reseller);
CREATE TABLE nameserver_set (
    name TEXT PRIMARY KEY, value TEXT NOT NULL
) STRICT, WITHOUT ROWID;
",
    "ALTER TABLE certificate ADD COLUMN source TEXT NOT NULL DEFAULT 'ca';",
    "ALTER TABLE certificate ADD COLUMN details TEXT NOT NULL DEFAULT '{}';",
    "
CREATE TABLE former_certificate (
    folder TEXT PRIMARY KEY, site TEXT NOT NULL, ended INTEGER NOT NULL
) STRICT, WITHOUT ROWID;
CREATE INDEX former_certificate_by_end ON former_certificate(ended);
",
    "
CREATE TABLE revocation (
    folder TEXT PRIMARY KEY, site TEXT NOT NULL, ca TEXT NOT NULL, reason TEXT NOT NULL, not_after TEXT NOT NULL
) STRICT, WITHOUT ROWID;
",
    // https was a state of the site; a name that its certificate does not cover had none of its own.
    "
ALTER TABLE hostname ADD COLUMN https TEXT NOT NULL DEFAULT 'none';
UPDATE hostname SET https = (SELECT https FROM site WHERE main = hostname.site);
UPDATE hostname SET https = 'none' WHERE https = 'offered' AND NOT EXISTS (
    SELECT 1 FROM certificate, json_each(certificate.names) AS covered
    WHERE certificate.site = hostname.site AND covered.value = hostname.name
) AND NOT EXISTS (
    SELECT 1 FROM certificate, json_each(certificate.details, '$.wildcards') AS wildcard
    WHERE certificate.site = hostname.site
    AND wildcard.value = substr(hostname.name, instr(hostname.name, '.') + 1)
);
CREATE INDEX hostname_without_https ON hostname(site) WHERE https = 'none';
ALTER TABLE site DROP COLUMN https;
CREATE TABLE name_pause (
    name TEXT PRIMARY KEY, site TEXT NOT NULL REFERENCES site(main), since TEXT NOT NULL, not_before INTEGER NOT NULL,
    reason TEXT NOT NULL
) STRICT, WITHOUT ROWID;
CREATE INDEX name_pause_by_site ON name_pause(site);
",
    // An alias domain had another name.
    "UPDATE plan SET limits = json_remove(
        json_set(limits, '$.alias-domains', json_extract(limits, '$.parked-domains')), '$.parked-domains')
    WHERE json_type(limits, '$.parked-domains') IS NOT NULL;",
    "
CREATE TABLE handover (
    domain TEXT PRIMARY KEY, asked INTEGER NOT NULL, nameservers TEXT NOT NULL
) STRICT, WITHOUT ROWID;
",
    "ALTER TABLE zone ADD COLUMN prepared TEXT;",
    // The hash of the file as it was last loaded from here.
    "ALTER TABLE zone ADD COLUMN loaded TEXT;",
    "ALTER TABLE zone ADD COLUMN signing TEXT;",
    "ALTER TABLE former_certificate ADD COLUMN revoked INTEGER NOT NULL DEFAULT 0;",
    "
CREATE TABLE notice (
    topic TEXT NOT NULL, subject TEXT NOT NULL, code TEXT, since INTEGER NOT NULL, told INTEGER NOT NULL,
    PRIMARY KEY (topic, subject)
) STRICT, WITHOUT ROWID;
",
];
