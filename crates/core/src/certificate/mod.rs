//! Certificates: what they say ([`read_chain`]), whether chain, key and names fit together ([`check_pair`],
//! [`covers`]), and how one is installed at a site ([`install`], [`force_https`]).
//!
//! Keys are made in `brightharbor-io`; only public halves are looked at here.

mod acquire;
mod alias_way;
mod assemble;
mod broken;
pub mod caa;
mod caa_climb;
mod chain;
mod coverage;
mod demand;
mod demanding;
mod describe;
pub mod due;
mod flight;
pub mod former;
mod hello;
mod install;
mod key_bits;
mod locked;
mod model;
mod ocsp;
mod old_lock;
mod packed;
mod piece;
mod read;
mod refusal;
mod remark;
mod renewal;
mod request;
pub mod revocation;
mod revoked;
pub mod rules;
pub mod securing;
mod served;
mod service;
mod staple;
mod start_tls;
mod suites;
mod telling;
mod wish;
mod wishing;
mod zone_proof;

pub use acquire::{
    Bought, Receiving, SelfSigned, import_certificate, install_stop_gap, keep_request, only_site, refuse_stop_gap,
    refuse_uncovered, requested, share, wildcard_parent,
};
pub use alias_way::AliasWay;
pub use assemble::{Assembled, Unfit, assemble, best_for, check_leaf, is_self_signed};
pub use caa_climb::CaaClimb;
pub use chain::{ChainProblem, check_pair, has_signed, issuer_in};
pub use coverage::{covers, uncovered};
pub use demand::{Demand, DemandError, DemandedProof, MOST_CONTENT, USUAL_FOLDER};
pub use demanding::{DemandedFile, DemandsLoaded, change_demands, demanded_files, demanded_records, zone_in_step};
pub use describe::{Detail, describe_certificate, describe_request, key_words};
pub use flight::{Flight, FlightRead, read_flight};
pub use hello::{Greeting, TlsVersion, USUAL, accepts, client_hello, greeting};
pub use install::{Install, force_https, install};
pub use key_bits::rsa_key_bits;
pub use model::{
    Certificate, CertificateDetails, CertificateFiles, CertificateSource, CertificateState, NamePause, Revocation,
    Waiting,
};
pub use ocsp::{good_term, judge_ocsp, ocsp_question};
pub use piece::{Piece, PieceError, certificate_pem, pieces};
pub(crate) use read::address_of;
pub use read::{CertificateFacts, ReadError, STATUS_REQUEST, TLS_FEATURE, read_chain, read_der};
pub use refusal::CertificateRefusal;
pub use remark::CertificateRemark;
pub use renewal::{RenewalSaid, RenewalWindow, ends_soon, renewal_id, to_be_replaced_soon, urgent_from, usual_moment};
pub use request::{RequestFacts, read_request};
pub use revoked::{RevocationStatus, judge_list};
pub use served::{Distrust, Installed, Served};
pub use service::{ServiceDue, ServiceProblem, ServiceSeen, due_for_service, place_service};
pub use staple::{Demanding, NewStaple, StapleStanding, place_staples};
pub use start_tls::{Next, StartTls};
pub use suites::{SuiteFamily, SuiteKey, suites, taken_by_browsers};
pub use telling::tell_ca;
pub use wish::{CertificateWish, KeyKind, Means, ProofWish};
pub use wishing::{WishChange, keep_wish};
pub use zone_proof::{proof_name, with_proofs, without_proofs};
