//! Stretches of time: `every(time, '5 minutes')` is the beginning of the five minutes that an instant lies in.
//!
//! Days, weeks and months are those of the zone that times are told in, also where a day has 23 hours or 25, and so are the stretches that
//! a day is divided into: `'6 hours'` begin at 0, 6, 12 and 18 o'clock whenever the clock was changed. Weeks begin on Monday.

use super::per_text::constant;
use super::{Function, Kind};
use crate::schema::text;
use arrow::array::{Array, ArrayRef, AsArray, StringArray, TimestampMillisecondArray};
use arrow::datatypes::{DataType, FieldRef, TimeUnit, TimestampMillisecondType};
use datafusion::common::plan_err;
use datafusion::error::Result;
use datafusion::functions::datetime::date_trunc;
use datafusion::logical_expr::{
    ColumnarValue, ReturnFieldArgs, ScalarFunctionArgs, ScalarUDF, ScalarUDFImpl, Signature, Volatility,
};
use exedra_reading::survey::Calendar;
use exedra_reading::survey::calendar::date_of;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use std::collections::HashMap;
use std::sync::Arc;

/// What people are told of it.
pub const EVERY: Function = Function {
    name: "every",
    usage: "every(time, length)",
    meaning: "The beginning of the stretch of time that an instant lies in: '5 minutes', '1 hour', '1 day', '1 week', '1 month' …",
    example: "select every(time, '5 minutes') as five, count(*) as requests from requests group by five order by five",
    kind: Kind::Row,
    is_own: true,
};

/// What people are told of the other.
pub const WEEKDAY: Function = Function {
    name: "weekday",
    usage: "weekday(time)",
    meaning: "The day of the week: 'Monday' to 'Sunday'.",
    example: "select weekday(time) as day, count(*) as requests from requests group by day order by requests desc",
    kind: Kind::Row,
    is_own: true,
};

/// The function.
#[derive(Debug, PartialEq, Eq, Hash)]
pub struct Every(Signature);

impl Default for Every {
    fn default() -> Self {
        Every(Signature::user_defined(Volatility::Immutable))
    }
}

/// A length of time that days are divided by, or that consists of days.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Length {
    Milliseconds(i64),
    Days(i64),
    Weeks(i64),
    Months(i64),
}

impl Length {
    fn understand(written: &str) -> Option<Length> {
        let written = written.trim();
        let digits = written.bytes().take_while(u8::is_ascii_digit).count();
        let number: i64 = if digits == 0 { 1 } else { written[..digits].parse().ok()? };
        if !(1..=10_000).contains(&number) {
            return None;
        }
        Some(match written[digits..].trim() {
            "ms" | "millisecond" | "milliseconds" => Length::Milliseconds(number),
            "s" | "second" | "seconds" => Length::Milliseconds(number * 1_000),
            "min" | "minute" | "minutes" => Length::Milliseconds(number * 60_000),
            "h" | "hour" | "hours" => Length::Milliseconds(number * 3_600_000),
            "d" | "day" | "days" => Length::Days(number),
            "w" | "week" | "weeks" => Length::Weeks(number),
            "month" | "months" => Length::Months(number),
            "year" | "years" => Length::Months(number * 12),
            _ => return None,
        })
    }

    /// The first day of the stretch that a day lies in.
    fn first_day(self, day: i32) -> Date {
        let of = |day: i64| date_of(i32::try_from(day).unwrap_or(i32::MAX));
        let day = i64::from(day);
        match self {
            Length::Milliseconds(_) => of(day),
            Length::Days(days) => of(day - day.rem_euclid(days)),
            // The fourth day since 1970 was a Monday.
            Length::Weeks(weeks) => of(day - (day + 3).rem_euclid(weeks * 7)),
            Length::Months(months) => {
                let date = of(day);
                let month = i64::from(date.year()) * 12 + i64::from(date.month()) - 1;
                let first = month - month.rem_euclid(months);
                let (year, month) = (first.div_euclid(12), first.rem_euclid(12) + 1);
                Date::new(year as i16, month as i8, 1).unwrap_or(date)
            }
        }
    }
}

impl ScalarUDFImpl for Every {
    fn name(&self) -> &'static str {
        EVERY.name
    }

    fn signature(&self) -> &Signature {
        &self.0
    }

    fn coerce_types(&self, given: &[DataType]) -> Result<Vec<DataType>> {
        match given {
            [time, length] => Ok(vec![instant(EVERY.name, time)?, length.clone()]),
            _ => plan_err!("every takes a time and a length, as in every(time, '5 minutes')"),
        }
    }

    fn return_type(&self, given: &[DataType]) -> Result<DataType> {
        Ok(given.first().cloned().unwrap_or(DataType::Null))
    }

    fn invoke_with_args(&self, given: ScalarFunctionArgs) -> Result<ColumnarValue> {
        let [time, length] = &given.args[..] else { return plan_err!("every takes a time and a length") };
        let written = constant(length, EVERY.name, "the length")?;
        let Some(length) = Length::understand(written) else {
            return plan_err!(
                "`{written}` is no length of time: write '5 minutes', '1 hour', '1 day', '1 week' or '1 month'"
            );
        };
        begins(&time.to_array(given.number_rows)?, length)
    }
}

/// When the stretches begin that instants lie in.
fn begins(times: &ArrayRef, length: Length) -> Result<ColumnarValue> {
    let zone = zone_of(times.data_type());
    let mut calendar = Calendar::new(zone.clone());
    let mut days: HashMap<i32, i64> = HashMap::new();
    let mut last: Option<(i32, i64)> = None;
    let mut begin = |time: i64| match length {
        Length::Milliseconds(length) => calendar.begin(time, length),
        length => {
            let day = calendar.quarter(time).day;
            match last {
                Some((last, begin)) if last == day => begin,
                _ => {
                    let begin = *days.entry(day).or_insert_with(|| {
                        let begin = length.first_day(day).to_zoned(zone.clone());
                        begin.map_or(time, |begin| begin.timestamp().as_millisecond())
                    });
                    last = Some((day, begin));
                    begin
                }
            }
        }
    };
    let times_of = times.as_primitive::<TimestampMillisecondType>();
    // What stands where there is no time may be anything, and is no time either.
    let begins = times_of.values().iter().enumerate().map(|(row, time)| match times_of.is_null(row) {
        true => *time,
        false => begin(*time),
    });
    let begins = TimestampMillisecondArray::new(begins.collect(), times_of.nulls().cloned());
    Ok(ColumnarValue::Array(Arc::new(begins.with_data_type(times.data_type().clone()))))
}

/// `date_trunc` as SQL has it, for the times of requests by way of our calendar: the engine's asks for the zone of each row anew. What
/// it is given otherwise goes to the engine's.
pub const DATE_TRUNC: &str = "date_trunc";

/// As [`DATE_TRUNC`] says.
#[derive(Debug, PartialEq, Eq, Hash)]
pub struct DateTrunc(Arc<ScalarUDF>);

impl Default for DateTrunc {
    fn default() -> Self {
        DateTrunc(date_trunc())
    }
}

impl ScalarUDFImpl for DateTrunc {
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
        self.0.return_type(given)
    }

    fn return_field_from_args(&self, given: ReturnFieldArgs<'_>) -> Result<FieldRef> {
        self.0.return_field_from_args(given)
    }

    fn invoke_with_args(&self, given: ScalarFunctionArgs) -> Result<ColumnarValue> {
        if let [ColumnarValue::Scalar(unit), ColumnarValue::Array(times)] = &given.args[..]
            && let DataType::Timestamp(TimeUnit::Millisecond, Some(_)) = times.data_type()
            && let Some(length) = unit.try_as_str().flatten().and_then(unit_of_sql)
        {
            return begins(times, length);
        }
        self.0.invoke_with_args(given)
    }
}

/// The length of a unit of `date_trunc`.
fn unit_of_sql(unit: &str) -> Option<Length> {
    Some(match unit.to_ascii_lowercase().as_str() {
        "second" => Length::Milliseconds(1_000),
        "minute" => Length::Milliseconds(60_000),
        "hour" => Length::Milliseconds(3_600_000),
        "day" => Length::Days(1),
        "week" => Length::Weeks(1),
        "month" => Length::Months(1),
        "quarter" => Length::Months(3),
        "year" => Length::Months(12),
        _ => return None,
    })
}

/// The day of the week.
#[derive(Debug, PartialEq, Eq, Hash)]
pub struct Weekday(Signature);

impl Default for Weekday {
    fn default() -> Self {
        Weekday(Signature::user_defined(Volatility::Immutable))
    }
}

const WEEKDAYS: [&str; 7] = ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"];

impl ScalarUDFImpl for Weekday {
    fn name(&self) -> &'static str {
        WEEKDAY.name
    }

    fn signature(&self) -> &Signature {
        &self.0
    }

    fn coerce_types(&self, given: &[DataType]) -> Result<Vec<DataType>> {
        match given {
            [time] => Ok(vec![instant(WEEKDAY.name, time)?]),
            _ => plan_err!("weekday takes a time"),
        }
    }

    fn return_type(&self, _: &[DataType]) -> Result<DataType> {
        Ok(text())
    }

    fn invoke_with_args(&self, given: ScalarFunctionArgs) -> Result<ColumnarValue> {
        let [time] = &given.args[..] else { return plan_err!("weekday takes a time") };
        let times = time.to_array(given.number_rows)?;
        let mut calendar = Calendar::new(zone_of(times.data_type()));
        let keys = times.as_primitive::<TimestampMillisecondType>().iter();
        let keys = keys.map(|time| time.map(|time| calendar.quarter(time).weekday() as u32)).collect();
        let names: ArrayRef = Arc::new(StringArray::from_iter_values(WEEKDAYS));
        Ok(ColumnarValue::Array(Arc::new(
            arrow::array::DictionaryArray::<arrow::datatypes::UInt32Type>::try_new(keys, names)?,
        )))
    }
}

/// The type that an instant is brought to; texts and dates become instants of UTC.
fn instant(function: &str, given: &DataType) -> Result<DataType> {
    match given {
        DataType::Timestamp(_, zone) => {
            let zone = zone.clone().unwrap_or_else(|| "UTC".into());
            Ok(DataType::Timestamp(TimeUnit::Millisecond, Some(zone)))
        }
        DataType::Null | DataType::Date32 => {
            Ok(DataType::Timestamp(TimeUnit::Millisecond, Some("UTC".into())))
        }
        given if super::per_text::is_text(given) => {
            Ok(DataType::Timestamp(TimeUnit::Millisecond, Some("UTC".into())))
        }
        given => plan_err!("{function}: a time is wanted, not {given}"),
    }
}

fn zone_of(kind: &DataType) -> TimeZone {
    match kind {
        DataType::Timestamp(_, Some(zone)) => TimeZone::get(zone).unwrap_or(TimeZone::UTC),
        _ => TimeZone::UTC,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow::datatypes::Field;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case("5 minutes", Some(Length::Milliseconds(300_000)))]
    #[case("90s", Some(Length::Milliseconds(90_000)))]
    #[case("hour", Some(Length::Milliseconds(3_600_000)))]
    #[case("2 weeks", Some(Length::Weeks(2)))]
    #[case("1 year", Some(Length::Months(12)))]
    #[case("0 days", None)]
    #[case("often", None)]
    #[case("", None)]
    fn lengths(#[case] written: &str, #[case] length: Option<Length>) {
        assert_eq!(Length::understand(written), length);
    }

    proptest! {
        /// A law: by way of the calendar a time is cut as the engine cuts it, but where a clock was put back and an hour comes twice.
        #[test]
        fn times_are_cut_as_the_engine_cuts_them(
            times in proptest::collection::vec(proptest::option::of(0i64..4_000_000_000_000), 1..40),
            unit in prop::sample::select(vec!["second", "minute", "hour", "day", "week", "month", "quarter", "year", "Hour"]),
            zone in prop::sample::select(vec!["UTC", "Asia/Kolkata", "America/Phoenix", "Asia/Tokyo"]),
        ) {
            let data_type = DataType::Timestamp(TimeUnit::Millisecond, Some(zone.into()));
            let array = times.into_iter().collect::<TimestampMillisecondArray>().with_data_type(data_type.clone());
            let field = |kind: &DataType| Arc::new(Field::new("given", kind.clone(), true));
            let of = |function: &dyn ScalarUDFImpl| {
                let given = ScalarFunctionArgs {
                    args: vec![ColumnarValue::Scalar(unit.into()), ColumnarValue::Array(Arc::new(array.clone()))],
                    arg_fields: vec![field(&DataType::Utf8), field(&data_type)],
                    number_rows: array.len(),
                    return_field: field(&data_type),
                    config_options: Arc::default(),
                };
                function.invoke_with_args(given).unwrap().to_array(array.len()).unwrap()
            };
            prop_assert_eq!(&of(&DateTrunc::default()), &of(&*date_trunc().inner().clone()));
        }
    }

    #[rstest]
    #[case("1 week", "2026-11-14", "2026-11-09")]
    #[case("1 week", "2026-11-09", "2026-11-09")]
    #[case("1 month", "2026-11-30", "2026-11-01")]
    #[case("3 months", "2026-11-30", "2026-10-01")]
    #[case("1 year", "2026-11-30", "2026-01-01")]
    #[case("1 month", "1969-12-31", "1969-12-01")]
    fn first_days(#[case] length: &str, #[case] day: Date, #[case] first: Date) {
        let since = day.since(Date::constant(1970, 1, 1)).unwrap().get_days();
        assert_eq!(Length::understand(length).unwrap().first_day(since), first);
    }
}
