//! Record data to wire form, names uncompressed and as written (RFC 3597 section 4, RFC 4034 section 6.2).
//!
//! The other direction is `RecordData::from_wire` and `fields::from_wire`.

use super::fields::Field;
use super::schema::{Part, parts_of};
use super::{RecordData, RecordType};
use crate::name::DnsName;

impl RecordData {
    /// The data as it travels in messages.
    pub fn to_wire(&self) -> Vec<u8> {
        let mut wire = Vec::new();
        match self {
            Self::A(address) => wire.extend(address.octets()),
            Self::Aaaa(address) => wire.extend(address.octets()),
            Self::Ns(name) | Self::Cname(name) => push_name(&mut wire, name),
            Self::Mx { preference, exchange } => {
                wire.extend(preference.to_be_bytes());
                push_name(&mut wire, exchange);
            }
            Self::Txt(strings) => strings.iter().for_each(|string| push_counted(&mut wire, string)),
            Self::Soa(soa) => {
                push_name(&mut wire, &soa.primary);
                push_name(&mut wire, &soa.hostmaster);
                for number in [soa.serial, soa.refresh, soa.retry, soa.expire, soa.negative_ttl] {
                    wire.extend(number.to_be_bytes());
                }
            }
            Self::Fields { record_type, fields } => push_fields(&mut wire, *record_type, fields),
            Self::Unknown { data, .. } => wire.extend(data),
            // Nobody here knows it: good for a comparison alone.
            Self::Verbatim { text, .. } => wire.extend(text.as_bytes()),
        }
        wire
    }
}

fn push_fields(wire: &mut Vec<u8>, record_type: RecordType, fields: &[Field]) {
    let mut parts = parts_of(record_type).unwrap_or_default().iter();
    let mut part = None;
    for field in fields {
        // The strings of a type that takes the rest share its last part.
        part = parts.next().or(part);
        match field {
            Field::Number(value) => match part {
                Some(Part::U8 | Part::Algorithm | Part::KeyProtocol | Part::DigestType | Part::Scheme) => {
                    wire.push(*value as u8)
                }
                Some(Part::U16 | Part::CertificateType | Part::KeyFlags) => wire.extend((*value as u16).to_be_bytes()),
                _ => wire.extend(value.to_be_bytes()),
            },
            Field::Moment(seconds) => wire.extend(seconds.to_be_bytes()),
            Field::Name(name) => push_name(wire, name),
            Field::Text(string) if matches!(part, Some(Part::LongText | Part::QuotedText)) => wire.extend(string),
            Field::Text(string) | Field::Salt(string) | Field::Hash(string) => push_counted(wire, string),
            Field::Hex(bytes) | Field::Base64(bytes) => wire.extend(bytes),
            Field::Type(kind) => wire.extend(kind.0.to_be_bytes()),
            Field::Types(types) => push_bitmap(wire, types),
            Field::Tag(tag) => push_counted(wire, tag.as_bytes()),
            Field::Location(location) => wire.extend(location.to_wire()),
            Field::Special { wire: bytes, .. } => wire.extend(bytes),
            Field::Parameters(parameters) => wire.extend(parameters.to_wire()),
        }
    }
}

fn push_name(wire: &mut Vec<u8>, name: &DnsName) {
    name.labels().for_each(|label| push_counted(wire, label));
    wire.push(0);
}

/// At most 255 bytes: the reader has seen to that.
fn push_counted(wire: &mut Vec<u8>, bytes: &[u8]) {
    wire.push(bytes.len() as u8);
    wire.extend(bytes);
}

/// The type bitmap of RFC 4034 section 4.1.2; the types come in ascending order.
fn push_bitmap(wire: &mut Vec<u8>, types: &[RecordType]) {
    for of_window in types.chunk_by(|a, b| a.0 >> 8 == b.0 >> 8) {
        let mut bits = [0_u8; 32];
        let mut length = 0;
        for RecordType(number) in of_window {
            let low = usize::from(number & 0xff);
            bits[low / 8] |= 0x80 >> (low % 8);
            length = low / 8 + 1;
        }
        wire.push((of_window[0].0 >> 8) as u8);
        push_counted(wire, &bits[..length]);
    }
}

#[cfg(test)]
mod tests {
    use crate::name::DnsName;
    use crate::zone::{Document, RecordData};

    /// One record of every part that there is.
    const ZONE: &str = "$TTL 3600\n@ SOA ns1 host.master 7 4h 30m 4w 5m\n@ NS ns1\n@ MX 10 mail\n@ TXT \"a\\200b\" \"\"\n\
        a A 192.0.2.1\na AAAA 2001:db8::1\nb CNAME a\nc PTR a\nd HINFO \"x\" \"y z\"\ne RP a b\n\
        f LOC 52 22 23.000 N 4 53 32.000 E -2.00m 0.00m 10000m 10m\ng SRV 1 2 3 a\nh NAPTR 1 2 \"s\" \"SIP\" \"\" a\n\
        i CERT PKIX 1 RSASHA256 AQID\nj DS 1 8 2 00112233445566778899AABBCCDDEEFF00112233445566778899AABBCCDDEEFF\n\
        k SSHFP 1 3 ABCD\nl RRSIG A 8 2 3600 20300101000000 20200101000000 5 @ AQID\nm NSEC a A MX TYPE1234\n\
        n DNSKEY 257 3 13 AQID\no NSEC3 1 0 5 - 0123456789ABCDEFGHIJKLMNOPQRSTUV A\np NSEC3PARAM 1 0 5 ABCD\n\
        q TLSA 3 1 1 AB\nr OPENPGPKEY AQID\ns CSYNC 1 3 A NS\nt ZONEMD 1 1 1 00112233445566778899AABBCCDDEEFF 00112233445566778899AABBCCDDEEFF 00112233445566778899AABBCCDDEEFF\n\
        u HTTPS 1 . alpn=\"h2,h3\" port=8443 ipv4hint=192.0.2.1\nv SPF \"v=spf1 -all\"\nw URI 1 2 \"https://a.example/\"\n\
        x CAA 0 issue \"ca.example\"\ny DNAME z.example.\nz TYPE65280 \\# 3 010203\n\
        aa MB a\nab MINFO a b\nac X25 \"311061700956\"\nad ISDN \"150862028003217\" \"004\"\nae RT 2 a\naf NSAP 0x4700\n\
        ag SIG NXT 1 3 3600 20300101000000 20200101000000 5 @ AQID\nah KEY 512 3 8 AQID\nai KEY NOKEY|ZONE NONE 5\n\
        aj PX 10 a b\nak GPOS \"-32.6882\" \"116.8652\" \"10.0\"\nal EID 1289AB\nam SINK 8 0 2 AQID\n\
        an APL 1:192.0.2.0/24 !2:2001:db8::/32\nao IPSECKEY 10 3 2 a AQID\nap DHCID AQID\naq HIP 2 2001 AQID a\n\
        ar NINFO \"a\"\nas RKEY 0 255 1 AQID\nat TALINK . a\nau DSYNC CDS NOTIFY 5359 a\nav NID 10 0014:4fff:ff20:ee64\n\
        aw L32 10 10.1.2.0\nax L64 10 2001:0db8:1140:1000\nay LP 10 a\naz EUI48 00-00-5e-00-53-2a\n\
        ba EUI64 00-00-5e-ef-10-00-00-2a\nbb AMTRELAY 10 1 3 a\nbc RESINFO \"qnamemin\"\nbd WALLET \"a\" \"b\"\n\
        be TA 1 8 SHA-1 00112233445566778899AABBCCDDEEFF00112233\nbf SMIMEA 3 1 1 AB\nbg HHIT AQID\nbh BRID AQID\nbi ISDN \"1508\"\n";

    #[test]
    fn wire_form_reads_back_as_the_same_data() {
        let zone = Document::parse(ZONE, &DnsName::absolute("gullrock.example").unwrap()).unwrap();
        assert_eq!(zone.records().count(), 66);
        for record in zone.records() {
            let wire = record.data.to_wire();
            let again = RecordData::from_wire(record.record_type(), &wire);
            assert_eq!(again.as_ref(), Some(&record.data), "{record}");
        }
    }
}
