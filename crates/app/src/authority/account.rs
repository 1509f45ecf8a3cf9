//! Accounts at authorities.

use crate::StepError;
use eskort_core::boxed;
use eskort_core::context::Context;
use eskort_core::inventory::AcmeAuthority;
use eskort_core::pki::{PrivateKey, Secret};
use eskort_host::obeyed;
use eskort_store::{RunLock, Store};
use eskort_talk::Conversation;
use serde::Serialize;
use std::path::{Path, PathBuf};

/// An account, for people.
#[derive(Clone, Debug, Serialize)]
pub struct AccountView {
    /// The authority's name in the inventory.
    pub authority: String,
    /// The address of its directory.
    pub directory: String,
    /// The account's address there; `None` where there is none yet.
    pub url: Option<String>,
    /// How the account stands, by the authority's word.
    pub status: Option<String>,
    /// Whom the authority may write to, by what it says.
    pub contact: Vec<String>,
    /// Whom it may write to, by the inventory.
    pub wanted_contact: Option<String>,
    /// The thumbprint of the account's key (RFC 7638).
    pub thumbprint: Option<String>,
    /// The file of the account's key.
    pub key_file: PathBuf,
    /// The identifier of the external account that it is bound to.
    pub external_account: Option<String>,
    /// The address of the authority's terms.
    pub terms: Option<String>,
    /// The address of the terms that were agreed to, where those are others.
    pub agreed_terms: Option<String>,
    /// The addresses of its orders there; `None` where the authority lists none.
    pub orders: Option<Vec<String>>,
}

/// An authority that was chosen, and the conversation with it.
struct Chosen<'a> {
    name: &'a str,
    acme: &'a AcmeAuthority,
    store: Store,
    conversation: Conversation,
    _lock: RunLock,
}

async fn choose<'a>(context: &'a Context, name: &'a str, command: &str) -> Result<Chosen<'a>, StepError> {
    let authority = &context.inventory.authorities[name];
    let acme = authority.acme().ok_or(StepError::OtherKind { kind: authority.kind_word() })?;
    let lock = RunLock::take(&context.state, command, context.now())?;
    let store = Store::open(&context.state)?;
    let conversation = Conversation::open(context, name, acme, &store).await?;
    Ok(Chosen { name, acme, store, conversation, _lock: lock })
}

/// Shows the account at an authority, as that knows it. Where there is none yet, none is made.
///
/// # Errors
/// When the authority cannot be asked, or says no.
///
/// # Panics
/// When the authority is not in the inventory: callers look first.
#[boxed]
pub async fn show_account(context: &Context, name: &str) -> Result<AccountView, StepError> {
    let authority = &context.inventory.authorities[name];
    let acme = authority.acme().ok_or(StepError::OtherKind { kind: authority.kind_word() })?;
    let mut view = AccountView {
        authority: name.to_owned(),
        directory: acme.directory.clone(),
        url: None,
        status: None,
        contact: Vec::new(),
        wanted_contact: acme.contact.clone().or_else(|| context.inventory.contact.clone()),
        thumbprint: None,
        key_file: context.state.join("accounts").join(format!("{name}.key.pem")),
        external_account: acme.external_account.as_ref().map(|external| external.key_id.clone()),
        terms: None,
        agreed_terms: None,
        orders: None,
    };
    let Some(store) = Store::open_existing(&context.state)? else { return Ok(view) };
    if store.account(name, &acme.directory).await?.is_none() {
        return Ok(view);
    }
    let conversation = Conversation::open(context, name, acme, &store).await?;
    view.terms = conversation.directory().await?.meta.terms_of_service.clone();
    view.agreed_terms = store.terms(name, &acme.directory).await?.filter(|agreed| Some(agreed) != view.terms.as_ref());
    view.thumbprint = Some(conversation.signer().thumbprint());
    if let Some((url, state)) = conversation.account_state().await? {
        view.orders = conversation.account_orders(&state).await?;
        (view.url, view.status, view.contact) = (Some(url), Some(state.status), state.contact);
    }
    Ok(view)
}

/// Makes the account at an authority where there is none, and tells the authority the inventory's contact.
///
/// # Errors
/// As [`show_account`].
///
/// # Panics
/// As [`show_account`].
#[boxed]
pub async fn bring_account(context: &Context, name: &str) -> Result<(), StepError> {
    let chosen = choose(context, name, "eskort account open").await?;
    Ok(chosen.conversation.ensure_account(&chosen.store).await?)
}

/// Gives the account at an authority another key (RFC 8555 section 7.3.5).
///
/// # Errors
/// As [`show_account`].
///
/// # Panics
/// As [`show_account`].
#[boxed]
pub async fn change_account_key(context: &Context, name: &str) -> Result<(), StepError> {
    let chosen = choose(context, name, "eskort account new-key").await?;
    Ok(chosen.conversation.change_account_key(&chosen.store).await?)
}

/// Ends the account at an authority for good (RFC 8555 section 7.3.6). Returns whether there was one.
///
/// # Errors
/// As [`show_account`].
///
/// # Panics
/// As [`show_account`].
#[boxed]
pub async fn end_account(context: &Context, name: &str) -> Result<bool, StepError> {
    let chosen = choose(context, name, "eskort account end").await?;
    if chosen.store.account(chosen.name, &chosen.acme.directory).await?.is_none() {
        return Ok(false);
    }
    chosen.conversation.deactivate_account(&chosen.store).await?;
    Ok(true)
}

/// Takes in the account of another machine by its key, and returns the account's address: that is asked of the authority.
///
/// # Errors
/// When the key cannot be read, or no account has it.
///
/// # Panics
/// As [`show_account`].
#[boxed]
pub async fn take_account(context: &Context, name: &str, key_file: &Path) -> Result<String, StepError> {
    let fail = |why: String| StepError::KeyFile { path: key_file.to_owned(), why };
    let text = Secret::new(obeyed::read_text(key_file).map_err(fail)?);
    let key = PrivateKey::from_pem(&text).map_err(|error| fail(error.to_string()))?;
    let again = PrivateKey::from_pem(&text).map_err(|error| fail(error.to_string()))?;
    let chosen = choose(context, name, "eskort account take").await?;
    let url = chosen.conversation.find_account(again).await?;
    chosen.conversation.keep_found_account(&key, &url, &chosen.store).await?;
    Ok(url)
}
