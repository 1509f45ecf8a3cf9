//! What is done with an account that exists, and revocation.

use super::{Account, Conversation, Repeat, new_account_key};
use crate::AuthorityError;
use eskort_acme::{
    AccountState, AcmeError, Signer, Step, change_key, deactivate, find_account, parse_account, parse_account_state,
    parse_orders, post_as_get, revoke,
};
use eskort_core::boxed;
use eskort_core::pki::PrivateKey;
use eskort_core::progress::Progress;
use eskort_core::revocation::Revocation;
use eskort_host::crash_point;
use eskort_store::Store;
use std::sync::Arc;

/// So many pages of a list of orders are read.
const MOST_PAGES: usize = 20;

impl Conversation {
    /// Revokes a certificate (RFC 8555 section 7.6): as the account, or with the certificate's own `key`.
    ///
    /// # Errors
    /// When the authority offers no revocation or refuses. That it is revoked already is none.
    #[boxed]
    pub async fn revoke(
        &self,
        certificate_der: &[u8],
        reason: Revocation,
        key: Option<PrivateKey>,
        store: &Store,
    ) -> Result<(), AuthorityError> {
        let url = self.directory().await?.revoke_cert.clone().ok_or_else(|| lacks("an address for revocations"))?;
        let own = key.map(|key| Signer::new(key, None));
        if own.is_none() {
            self.ensure_account(store).await?;
        }
        let make = |account: &Signer, nonce: &str| {
            revoke(own.as_ref().unwrap_or(account), nonce, &url, certificate_der, reason)
        };
        match self.send(Step::Revocation, Repeat::Idempotent, make).await {
            Err(AuthorityError::Refused { problem, .. }) if problem.kind == "alreadyRevoked" => {
                self.progress.tell(&Progress::Note("the authority has revoked it before".into()));
                Ok(())
            }
            answered => answered.map(drop),
        }
    }

    /// Returns the account's address and what the authority says of it; `None` where none is known here.
    ///
    /// # Errors
    /// When no answer comes, or one that says no.
    #[boxed]
    pub async fn account_state(&self) -> Result<Option<(String, AccountState)>, AuthorityError> {
        let signer = self.signer();
        let Some(url) = signer.account() else { return Ok(None) };
        let answer = self.send(Step::Account, Repeat::Idempotent, |s, n| post_as_get(s, n, url)).await?;
        Ok(Some((url.to_owned(), parse_account_state(&answer)?)))
    }

    /// Returns the addresses of the account's orders that its authority lists, as far as it lists any.
    ///
    /// # Errors
    /// When no answer comes, or one that says no.
    #[boxed]
    pub async fn account_orders(&self, state: &AccountState) -> Result<Option<Vec<String>>, AuthorityError> {
        let Some(mut url) = state.orders.clone() else { return Ok(None) };
        let mut orders = Vec::new();
        for _ in 0..MOST_PAGES {
            let answer = self.send(Step::Account, Repeat::Idempotent, |s, n| post_as_get(s, n, &url)).await?;
            orders.extend(parse_orders(&answer)?);
            match answer.next.filter(|next| next.starts_with("https://") && *next != url) {
                Some(next) => url = next,
                None => break,
            }
        }
        Ok(Some(orders))
    }

    /// Finds the account that a key has at this authority, and goes on with it; the ledger and the key's file are to follow.
    ///
    /// # Errors
    /// When no account has the key.
    #[boxed]
    pub async fn find_account(&self, key: PrivateKey) -> Result<String, AuthorityError> {
        let signer = Signer::new(key, None);
        let directory = self.directory().await?;
        let make = |_: &Signer, nonce: &str| find_account(&signer, nonce, directory);
        let answer = self.send(Step::Account, Repeat::Idempotent, make).await?;
        let url = parse_account(&answer)?;
        let mut found = signer.clone();
        found.set_account(url.clone());
        *self.account() = Account { signer: Arc::new(found), contact: None };
        Ok(url)
    }

    /// Gives the account another key, which takes the place of the old one here; that is kept beside it. A change that a killed run began is
    /// brought to its end.
    ///
    /// # Errors
    /// When the authority refuses, or a file cannot be written.
    #[boxed]
    pub async fn change_account_key(&self, store: &Store) -> Result<(), AuthorityError> {
        self.ensure_account(store).await?;
        let _care = self.shared.account_care.lock().await;
        let url = self.directory().await?.key_change.clone().ok_or_else(|| lacks("an address for changes of keys"))?;
        // It is on the disk before the authority knows it.
        let key = match next_key(&self.shared.name, store)? {
            Some(key) => key,
            None => new_account_key(&next_name(&self.shared.name), store)?,
        };
        let new = Signer::new(key, None);
        let make = |old: &Signer, nonce: &str| change_key(old, &new, nonce, &url);
        self.send(Step::KeyChange, Repeat::Once, make).await?;
        crash_point("key-changed");
        self.take_next_key(store).await
    }

    /// Puts the key that the authority knows now in the place of the old one.
    pub(super) async fn take_next_key(&self, store: &Store) -> Result<(), AuthorityError> {
        let (name, signer) = (&self.shared.name, self.signer());
        let (Some(url), Some(key)) = (signer.account(), next_key(name, store)?) else { return Ok(()) };
        let aside = store.replace_account_key(name, &next_name(name), self.shared.clock.now())?;
        let contact = self.account().contact.clone();
        let mut signer = Signer::new(key, None);
        signer.set_account(url.to_owned());
        *self.account() = Account { signer: Arc::new(signer), contact: contact.clone() };
        self.save_account(url, contact.as_deref(), store).await?;
        let text = format!("the account has another key now; the old one is kept in {}", aside.display());
        self.progress.tell(&Progress::Note(text));
        Ok(())
    }

    /// Looks whether a change of the account's key arrived at the authority before a run was killed, and brings it to its end then.
    pub(super) async fn finish_key_change(&self, store: &Store) -> Result<(), AuthorityError> {
        let (Some(key), Some(account)) =
            (next_key(&self.shared.name, store)?, self.signer().account().map(str::to_owned))
        else {
            return Ok(());
        };
        let new = Signer::new(key, None);
        let directory = self.directory().await?;
        let make = |_: &Signer, nonce: &str| find_account(&new, nonce, directory);
        match self.send(Step::Account, Repeat::Idempotent, make).await {
            Ok(answer) if parse_account(&answer).is_ok_and(|url| url == account) => self.take_next_key(store).await,
            // It did not arrive: the key waits for the next change.
            Ok(_) | Err(AuthorityError::Refused { .. }) => Ok(()),
            Err(error) => Err(error),
        }
    }

    /// Ends the account for good; its key is put aside.
    ///
    /// # Errors
    /// When the authority refuses, or a file cannot be written.
    #[boxed]
    pub async fn deactivate_account(&self, store: &Store) -> Result<(), AuthorityError> {
        let signer = self.signer();
        let Some(url) = signer.account() else { return Ok(()) };
        self.send(Step::Account, Repeat::Idempotent, |s, n| deactivate(s, n, url)).await?;
        let Self { shared, progress } = self;
        let aside = store.put_account_key_aside(&shared.name, shared.clock.now())?;
        store.forget_account(&shared.name, &shared.authority.directory).await?;
        progress.tell(&Progress::Note(format!("the account's key is kept in {}", aside.display())));
        Ok(())
    }

    /// Writes down the account that this conversation goes on with, and its key.
    ///
    /// # Errors
    /// When a file or the ledger cannot be written.
    #[boxed]
    pub async fn keep_found_account(&self, key: &PrivateKey, url: &str, store: &Store) -> Result<(), AuthorityError> {
        let Self { shared, progress } = self;
        if store.account_key(&shared.name)?.is_some() {
            let aside = store.put_account_key_aside(&shared.name, shared.clock.now())?;
            progress.tell(&Progress::Note(format!("the key that was used before is kept in {}", aside.display())));
        }
        store.save_account_key(&shared.name, key)?;
        Ok(self.save_account(url, None, store).await?)
    }
}

fn lacks(what: &'static str) -> AuthorityError {
    AcmeError::NotProtocol { expected: what, found: "its directory has none".into() }.into()
}

/// Returns the name under which the next key of an account waits: none that an authority can have.
fn next_name(authority: &str) -> String {
    format!("{authority}+next")
}

fn next_key(authority: &str, store: &Store) -> Result<Option<PrivateKey>, AuthorityError> {
    let name = next_name(authority);
    let path = store.account_key_path(&name);
    let read = |pem: eskort_core::pki::Secret<String>| {
        PrivateKey::from_pem(&pem).map_err(|source| AuthorityError::AccountKey { path: path.clone(), source })
    };
    store.account_key(&name)?.map(read).transpose()
}
