//! The calls about the next real request of somebody's own browser: an address of the sites that is opened once.

use super::blocking::blocking;
use super::caller::Caller;
use super::failure::{Failure, Named, Sent};
use crate::active::trials::{PATIENCE, TRIALS};
use crate::control::explaining::asked::Described;
use axum::Json;
use axum::http::StatusCode;
use exedra_api::Problem;
use exedra_api::explaining::{Ask, NewTrial, Trial};

/// Makes such an address.
#[utoipa::path(post, path = "/trials", request_body = NewTrial, responses((status = 201, body = Trial)))]
pub async fn make_trial(
    caller: Caller,
    Sent(new): Sent<NewTrial>,
) -> Result<(StatusCode, Json<Trial>), Failure> {
    let described = Described::understand(&Ask { url: new.url, ..Ask::default() }).map_err(Failure::Wrong)?;
    let active = caller.console().site()?;
    let (home, _) = exedra_answering::answer::home::site_for(&active.config, described.host())
        .ok_or_else(|| Failure::Wrong(format!("no site answers to `{}`", described.host())))?;
    caller.sites(vec![active.config.site(home).name.value.clone()], &active.config)?;
    let token: String = rand::random::<[u8; 16]>().iter().map(|octet| format!("{octet:02x}")).collect();
    active.trials.wait_for(&token);
    let shown = described.shown();
    let address = format!("{}://{}{TRIALS}{token}{}", shown.scheme, shown.authority, shown.target());
    let until = jiff::Timestamp::now() + PATIENCE;
    let trial = Trial { id: token, address, until: until.to_string(), explanation: None };
    Ok((StatusCode::CREATED, Json(trial)))
}

/// What has come by such an address.
#[utoipa::path(get, path = "/trials/{id}", params(("id" = String, Path)),
    responses((status = 200, body = Trial), (status = 404, body = Problem)))]
pub async fn trial(caller: Caller, Named(id): Named<String>) -> Result<Json<Trial>, Failure> {
    blocking(move || {
        let found = caller.console().site()?.trials.found(&id);
        let missing = || {
            let minutes = PATIENCE.as_secs() / 60;
            Failure::Missing(format!(
                "there is no such address: each waits {minutes} minutes. Make another one"
            ))
        };
        let explanation = found.ok_or_else(missing)?;
        let hidden = explanation.as_ref().and_then(|told| told.site.as_ref());
        if hidden.is_some_and(|site| !caller.grant().sees(site)) {
            return Err(missing());
        }
        Ok(Trial { id, address: String::new(), until: String::new(), explanation })
    })
    .await
}
