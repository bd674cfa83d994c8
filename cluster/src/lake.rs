//! A folder of exported Parquet files as the table `requests`, with the columns of `exedra query`.
//!
//! Site and day stand in the names of folders (`site=harbour/day=2026-11-14`), so that a condition on them leaves whole folders
//! unread. What a machine exported earlier may lack a column that is known now: it is null there. Texts are spelled out: what goes from
//! one worker to another has no dictionary that both know.

use crate::{Failure, visitor};
use arrow::datatypes::{DataType, Schema};
use datafusion::datasource::file_format::parquet::ParquetFormat;
use datafusion::datasource::listing::{ListingOptions, ListingTable, ListingTableConfig, ListingTableUrl};
use datafusion::error::Result;
use datafusion::logical_expr::{Expr, ident};
use datafusion::prelude::SessionContext;
use exedra_query::schema::{Field, TABLE, fields, schema, text};
use std::path::Path;
use std::sync::Arc;

/// The column of the folder's name.
const SITE: &str = "site";
const DAY: &str = "day";
/// The column that follows from others.
const VISITOR: &str = "visitor";

/// Makes the files below a folder the table `requests`. Days and hours are those of a zone.
pub fn register(session: &SessionContext, folder: &Path, zone: &str) -> Result<(), Failure> {
    let whole = folder.canonicalize().map_err(|error| format!("{}: {error}", folder.display()))?;
    let failed = |error: datafusion::error::DataFusionError| format!("{}: {error}", folder.display());
    table(session, &whole, zone).map_err(failed)
}

fn table(session: &SessionContext, folder: &Path, zone: &str) -> Result<()> {
    let all = schema(zone);
    let in_files = all.fields().iter().filter(|field| !matches!(field.name().as_str(), SITE | VISITOR));
    let spelled = in_files.map(|field| match *field.data_type() == text() {
        true => Arc::new(field.as_ref().clone().with_data_type(DataType::Utf8)),
        false => Arc::clone(field),
    });
    let in_files = Schema::new(spelled.collect::<Vec<_>>());
    let options = ListingOptions::new(Arc::new(ParquetFormat::default()))
        .with_file_extension(".parquet")
        .with_table_partition_cols(vec![(SITE.to_owned(), DataType::Utf8), (DAY.to_owned(), DataType::Utf8)]);
    let url = ListingTableUrl::parse(format!("file://{}/", folder.display()))?;
    let config = ListingTableConfig::new(url).with_listing_options(options).with_schema(Arc::new(in_files));
    let files = session.read_table(Arc::new(ListingTable::try_new(config)?))?;
    let visitor = session.state().scalar_functions()[visitor::NAME].clone();
    let column = |field: Field| -> Expr {
        let name = field.name();
        match name.as_str() {
            VISITOR => visitor.call(["client", "agent", "time"].map(ident).to_vec()).alias(VISITOR),
            _ => ident(&name),
        }
    };
    let requests = files.select(fields().map(column).collect::<Vec<_>>())?;
    session.register_table(TABLE, requests.into_view())?;
    Ok(())
}
