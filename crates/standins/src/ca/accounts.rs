//! Accounts (RFC 8555 section 7.3): opened, looked for by their key, reached elsewhere, given another key, closed.

use serde_json::{Value, json};

use super::jws::{Jwk, Signed};
use super::service::{Answer, CaService, Refusal, Result, malformed};

impl CaService {
    /// Opens an account, or finds the one that the key has.
    pub(super) fn account(&self, signed: &Signed) -> Result<Answer> {
        let key: &Jwk = signed.header.jwk.as_ref().ok_or_else(|| malformed("a new account needs its jwk"))?;
        signed.verify(key).map_err(malformed)?;
        let payload: Value = serde_json::from_slice(&signed.payload).map_err(malformed)?;
        let known = self.books().account_of(key);
        let number = match known {
            Some(number) => number,
            None if payload["onlyReturnExisting"] == json!(true) => return Err(unknown()),
            None if payload["termsOfServiceAgreed"] != json!(true) => {
                return Err(Refusal(403, "userActionRequired", "the terms must be agreed to".into()));
            }
            None => self.books().open_account(key.clone(), payload["contact"].clone()),
        };
        self.account_answer(number, if known.is_some() { 200 } else { 201 })
    }

    /// The account that has signed.
    pub(super) fn who(&self, signed: &Signed) -> Result<usize> {
        let kid = signed.header.kid.as_deref().ok_or_else(|| malformed("a kid is needed here"))?;
        let number = kid.strip_prefix(&self.account_url("")).and_then(|number| number.parse::<usize>().ok());
        let key = number.and_then(|number| self.books().key_of(number).cloned());
        match (number, key) {
            (Some(number), Some(key)) => signed.verify(&key).map(|()| number).map_err(malformed),
            _ => Err(unknown()),
        }
    }

    /// Another contact, or the end (sections 7.3.2 and 7.3.6).
    pub(super) fn change_account(&self, account: usize, number: usize, payload: &[u8]) -> Result<Answer> {
        if account != number {
            return Err(Refusal(403, "unauthorized", "this is the account of somebody else".into()));
        }
        if payload.is_empty() {
            return self.account_answer(number, 200);
        }
        let payload: Value = serde_json::from_slice(payload).map_err(malformed)?;
        let mut books = self.books();
        let entry = books.accounts.get_mut(number).ok_or_else(unknown)?;
        if let Some(contact) = payload.get("contact") {
            entry.contact = contact.clone();
        }
        entry.closed |= payload["status"] == json!("deactivated");
        drop(books);
        self.account_answer(number, 200)
    }

    /// Another key, which has to sign for itself (section 7.3.5).
    pub(super) fn change_key(&self, account: usize, signed: &Signed) -> Result<Answer> {
        let inner = Signed::read_within(&signed.payload, &signed.header.url).map_err(malformed)?;
        let key = inner.header.jwk.clone().ok_or_else(|| malformed("the new key must sign with its jwk"))?;
        inner.verify(&key).map_err(malformed)?;
        let told: Value = serde_json::from_slice(&inner.payload).map_err(malformed)?;
        let old: Jwk = serde_json::from_value(told["oldKey"].clone()).map_err(malformed)?;
        let mut books = self.books();
        if told["account"] != json!(self.account_url(&account.to_string())) || books.key_of(account) != Some(&old) {
            return Err(malformed("the new key is for another account, or names another old key"));
        }
        if books.account_of(&key).is_some() {
            return Err(Refusal(409, "malformed", "an account has this key already".into()));
        }
        books.accounts[account].key = key;
        drop(books);
        self.account_answer(account, 200)
    }

    fn account_answer(&self, number: usize, status: u16) -> Result<Answer> {
        let books = self.books();
        let entry = books.accounts.get(number).ok_or_else(unknown)?;
        let word = if entry.closed { "deactivated" } else { "valid" };
        let url = self.account_url(&number.to_string());
        let orders = url.replace("/account/", "/orders/");
        let answer = Answer::json(status, &json!({ "status": word, "contact": entry.contact, "orders": orders }));
        Ok(answer.at(url))
    }
}

fn unknown() -> Refusal {
    Refusal(400, "accountDoesNotExist", "this account is not known".into())
}
