//! Which servers of the parent have the delegation that is waited for. Whether anything is wrong with it is judged in
//! `rules`.

use std::net::SocketAddr;

use super::Picture;
use crate::name::DnsName;

/// One server of the parent, and what it has.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Arrival {
    pub server: SocketAddr,
    pub has: Has,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Has {
    /// The delegation that is wanted.
    Wanted,
    /// Another one, to these names.
    Other(Vec<DnsName>),
    /// It says that there is none.
    Nothing,
    /// It told nothing: why.
    Unknown(String),
}

/// What each server of the parent has, where `wanted` is what the domain should be delegated to. Where nothing is wanted,
/// any delegation will do.
pub fn arrivals(picture: &Picture, wanted: &[DnsName]) -> Vec<Arrival> {
    let mut wanted = wanted.to_vec();
    wanted.sort();
    let has = |answer: &super::ParentAnswer| match &answer.problem {
        _ if answer.denies => Has::Nothing,
        Some(problem) => Has::Unknown(problem.clone()),
        None if wanted.is_empty() || answer.nameservers == wanted => Has::Wanted,
        None => Has::Other(answer.nameservers.clone()),
    };
    picture.parent.iter().map(|answer| Arrival { server: answer.server, has: has(answer) }).collect()
}

impl Has {
    /// Whether it stands in the way: what told nothing does not.
    pub fn lags(&self) -> bool {
        matches!(self, Has::Other(_) | Has::Nothing)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::delegation::{ParentAnswer, Reached};

    fn name(text: &str) -> DnsName {
        DnsName::absolute(text).unwrap()
    }

    #[test]
    fn each_server_of_the_parent_is_told_by_what_it_has() {
        let answer = |number: u8, names: &[&str]| ParentAnswer {
            server: format!("192.0.2.{number}:53").parse().unwrap(),
            nameservers: names.iter().map(|text| name(text)).collect(),
            ttl: 3600,
            glue: vec![],
            stray: vec![],
            tcp: Reached::Unasked,
            serial: None,
            problem: None,
            denies: false,
        };
        let silent = ParentAnswer { problem: Some("did not answer in time".into()), ..answer(3, &[]) };
        let denying = ParentAnswer { denies: true, problem: Some("no such name".into()), ..answer(4, &[]) };
        let parent = vec![
            answer(1, &["ns1.saltmarsh.example", "ns2.saltmarsh.example"]),
            answer(2, &["a.oldquay.example"]),
            silent,
            denying,
        ];
        let picture = Picture { parent, ..Picture::unasked(name("gullrock.example")) };
        // In whatever order they are wanted.
        let wanted = [name("ns2.saltmarsh.example"), name("ns1.saltmarsh.example")];
        let has: Vec<Has> = arrivals(&picture, &wanted).into_iter().map(|one| one.has).collect();
        let other = Has::Other(vec![name("a.oldquay.example")]);
        assert_eq!(has, [Has::Wanted, other, Has::Unknown("did not answer in time".into()), Has::Nothing]);
        assert_eq!(has.iter().map(Has::lags).collect::<Vec<_>>(), [false, true, false, true]);
        assert_eq!(arrivals(&picture, &[])[1].has, Has::Wanted, "whatever is delegated will do");
    }
}
