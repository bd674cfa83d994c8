//! Our functions with the texts that they give spelled out.
//!
//! On one machine they give codes into a dictionary, one text once. Rows that go from one worker to another must have one type from
//! the plan to the last worker, and the engine between them knows texts.

use arrow::datatypes::DataType;
use datafusion::common::Result;
use datafusion::logical_expr::{ColumnarValue, ScalarFunctionArgs, ScalarUDF, ScalarUDFImpl, Signature};
use exedra_query::schema::text;
use std::sync::Arc;

/// A function that gives texts as they are.
#[derive(Debug, PartialEq, Eq, Hash)]
pub struct SpelledOut(pub Arc<ScalarUDF>);

impl ScalarUDFImpl for SpelledOut {
    fn name(&self) -> &str {
        self.0.name()
    }

    fn signature(&self) -> &Signature {
        self.0.signature()
    }

    fn coerce_types(&self, given: &[DataType]) -> Result<Vec<DataType>> {
        self.0.coerce_types(given)
    }

    fn return_type(&self, given: &[DataType]) -> Result<DataType> {
        let gives = self.0.return_type(given)?;
        Ok(if gives == text() { DataType::Utf8 } else { gives })
    }

    fn invoke_with_args(&self, given: ScalarFunctionArgs) -> Result<ColumnarValue> {
        // By itself it would be held to the type that was promised for this one.
        let gives = self.0.inner().invoke_with_args(given)?;
        if gives.data_type() == text() { gives.cast_to(&DataType::Utf8, None) } else { Ok(gives) }
    }
}
