//! The description of the API (OpenAPI 3.1): what every call may be answered besides its own answers is added here, so that no call
//! can leave it out.

use exedra_api::Problem;
use exedra_common::grant::Role;
use utoipa::openapi::path::Operation;
use utoipa::openapi::security::{ApiKey, ApiKeyValue, HttpAuthScheme, HttpBuilder, SecurityScheme};
use utoipa::openapi::{
    ContentBuilder, OpenApi, Ref, RefOr, ResponseBuilder, SecurityRequirement, extensions::ExtensionsBuilder,
};
use utoipa::{PartialSchema, ToSchema};

/// What any call may be answered.
const BY_ANY: [(&str, &str); 6] = [
    ("400", "the call is not understood"),
    ("405", "the call has other methods"),
    ("421", "the console is not known by this name"),
    ("500", "something went wrong"),
    ("503", "try again in a moment"),
    ("504", "it would take too long"),
];
/// What one with a body may be answered.
const WITH_BODY: [(&str, &str); 3] = [
    ("413", "the body is too long"),
    ("415", "the body is not JSON"),
    ("422", "the body is JSON, but not what is asked for"),
];

/// Adds what calls may be answered that are for whoever has this role; `None` for those that anybody may make.
pub fn complete(api: &mut OpenApi, role: Option<Role>) {
    for item in api.paths.paths.values_mut() {
        let changes = [&mut item.post, &mut item.put, &mut item.patch, &mut item.delete];
        for operation in changes.into_iter().flatten() {
            describe(operation, role, true);
        }
        if let Some(operation) = &mut item.get {
            describe(operation, role, false);
        }
    }
}

fn describe(operation: &mut Operation, role: Option<Role>, is_change: bool) {
    let mut possible = BY_ANY.to_vec();
    if role.is_some() {
        possible.push(("401", "not signed in"));
    }
    if role == Some(Role::Operator) {
        possible.push(("403", "for operators only"));
    } else if is_change {
        possible.push(("403", "from a foreign page"));
    }
    if operation.request_body.is_some() {
        possible.extend(WITH_BODY);
    }
    for (status, words) in possible {
        let problem = RefOr::Ref(Ref::from_schema_name(Problem::name()));
        let content = ContentBuilder::new().schema(Some(problem)).build();
        let response =
            ResponseBuilder::new().description(words).content("application/problem+json", content).build();
        // What a call says itself is more to the point.
        operation.responses.responses.entry(status.to_owned()).or_insert(RefOr::T(response));
    }
    // Whatever goes wrong is said as a problem, also where a call says itself that it may.
    for (status, response) in &mut operation.responses.responses {
        let RefOr::T(response) = response else { continue };
        if status.starts_with(['4', '5'])
            && let Some(content) = response.content.shift_remove("application/json")
        {
            response.content.insert("application/problem+json".to_owned(), content);
        }
    }
    let Some(role) = role else { return };
    operation.security = Some(vec![
        SecurityRequirement::new("token", [] as [&str; 0]),
        SecurityRequirement::new("session", [] as [&str; 0]),
    ]);
    let needs = ExtensionsBuilder::new().add("x-role", role.name()).build();
    operation.extensions.get_or_insert_with(Default::default).merge(needs);
}

/// How whoever asks is known, and the problem that all calls share.
pub fn share(api: &mut OpenApi) {
    let components = api.components.get_or_insert_with(Default::default);
    components.schemas.insert(Problem::name().into_owned(), Problem::schema());
    let token = HttpBuilder::new().scheme(HttpAuthScheme::Bearer).build();
    components.add_security_scheme("token", SecurityScheme::Http(token));
    let words = "named after the port of the console";
    let session = ApiKey::Cookie(ApiKeyValue::with_description("exedra_session_7300", words));
    components.add_security_scheme("session", SecurityScheme::ApiKey(session));
}
