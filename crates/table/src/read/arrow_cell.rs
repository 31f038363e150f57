//! Cells of Arrow arrays as text, in the forms that Parquet's have here.

use std::fmt::Write;

use arrow_array::Array;
use arrow_array::cast::AsArray;
use arrow_array::types::*;
use arrow_schema::{DataType, TimeUnit};
use jiff::SignedDuration;
use jiff::civil::Time;

use super::columnar::{Stamp, date_text, time_text};

/// Whether cells of this type have a text.
pub fn is_read(kind: &DataType) -> bool {
    use DataType::{Interval, LargeListView, ListView, RunEndEncoded, Union};
    match kind {
        Union(..) | Interval(_) | ListView(_) | LargeListView(_) | RunEndEncoded(..) => false,
        DataType::Dictionary(_, values) => is_read(values),
        DataType::List(field) | DataType::LargeList(field) | DataType::FixedSizeList(field, _) | DataType::Map(field, _) => {
            is_read(field.data_type())
        }
        DataType::Struct(fields) => fields.iter().all(|f| is_read(f.data_type())),
        _ => true,
    }
}

fn units_of(unit: TimeUnit) -> i64 {
    match unit {
        TimeUnit::Second => 1,
        TimeUnit::Millisecond => 1_000,
        TimeUnit::Microsecond => 1_000_000,
        TimeUnit::Nanosecond => 1_000_000_000,
    }
}

/// A time of day.
fn clock_text(count: i64, unit: TimeUnit) -> Option<String> {
    let units = units_of(unit);
    let nanos = count.rem_euclid(units) * (1_000_000_000 / units);
    let since = SignedDuration::new(count.div_euclid(units), i32::try_from(nanos).ok()?);
    Time::midnight().checked_add(since).ok().map(|t| t.to_string())
}

fn bytes(value: &[u8], out: &mut String) {
    let _ = write!(out, "{value:?}");
}

fn list(array: &dyn Array, out: &mut String) {
    out.push('[');
    for at in 0..array.len() {
        out.push_str(if at > 0 { ", " } else { "" });
        nested(array, at, out);
    }
    out.push(']');
}

fn nested(array: &dyn Array, at: usize, out: &mut String) {
    let is_text = matches!(array.data_type(), DataType::Utf8 | DataType::LargeUtf8 | DataType::Utf8View);
    let quote = if is_text && array.is_valid(at) { "\"" } else { "" };
    out.push_str(quote);
    if array.is_valid(at) {
        write(array, at, out)
    } else {
        out.push_str("null")
    }
    out.push_str(quote);
}

/// What a dictionary's key stands for.
fn entry<K: ArrowDictionaryKeyType>(array: &dyn Array, at: usize, out: &mut String) {
    let dictionary = array.as_dictionary::<K>();
    if let Some(key) = dictionary.key(at).filter(|key| dictionary.values().is_valid(*key)) {
        write(dictionary.values(), key, out);
    }
}

fn of_dictionary(key: &DataType, array: &dyn Array, at: usize, out: &mut String) {
    match key {
        DataType::Int8 => entry::<Int8Type>(array, at, out),
        DataType::Int16 => entry::<Int16Type>(array, at, out),
        DataType::Int32 => entry::<Int32Type>(array, at, out),
        DataType::Int64 => entry::<Int64Type>(array, at, out),
        DataType::UInt8 => entry::<UInt8Type>(array, at, out),
        DataType::UInt16 => entry::<UInt16Type>(array, at, out),
        DataType::UInt32 => entry::<UInt32Type>(array, at, out),
        _ => entry::<UInt64Type>(array, at, out),
    }
}

/// Adds the text of a cell that is there.
pub fn write(array: &dyn Array, at: usize, out: &mut String) {
    macro_rules! number {
        ($kind:ty, $form:literal) => {{
            let _ = write!(out, $form, array.as_primitive::<$kind>().value(at));
        }};
    }
    macro_rules! time {
        ($kind:ty, $said:expr) => {{
            let count = i64::from(array.as_primitive::<$kind>().value(at));
            out.push_str(&$said(count).unwrap_or_else(|| count.to_string()));
        }};
    }
    match array.data_type() {
        DataType::Boolean => out.push_str(if array.as_boolean().value(at) { "true" } else { "false" }),
        DataType::Int8 => number!(Int8Type, "{}"),
        DataType::Int16 => number!(Int16Type, "{}"),
        DataType::Int32 => number!(Int32Type, "{}"),
        DataType::Int64 => number!(Int64Type, "{}"),
        DataType::UInt8 => number!(UInt8Type, "{}"),
        DataType::UInt16 => number!(UInt16Type, "{}"),
        DataType::UInt32 => number!(UInt32Type, "{}"),
        DataType::UInt64 => number!(UInt64Type, "{}"),
        DataType::Float16 => {
            let _ = write!(out, "{:?}", array.as_primitive::<Float16Type>().value(at).to_f32());
        }
        DataType::Float32 => number!(Float32Type, "{:?}"),
        DataType::Float64 => number!(Float64Type, "{:?}"),
        DataType::Utf8 => out.push_str(array.as_string::<i32>().value(at)),
        DataType::LargeUtf8 => out.push_str(array.as_string::<i64>().value(at)),
        DataType::Utf8View => out.push_str(array.as_string_view().value(at)),
        DataType::Binary => bytes(array.as_binary::<i32>().value(at), out),
        DataType::LargeBinary => bytes(array.as_binary::<i64>().value(at), out),
        DataType::BinaryView => bytes(array.as_binary_view().value(at), out),
        DataType::FixedSizeBinary(_) => bytes(array.as_fixed_size_binary().value(at), out),
        DataType::Date32 => out.push_str(&date_text(array.as_primitive::<Date32Type>().value(at))),
        DataType::Date64 => time!(Date64Type, |ms: i64| i32::try_from(ms.div_euclid(86_400_000)).ok().map(date_text)),
        DataType::Time32(unit @ TimeUnit::Second) => time!(Time32SecondType, |n| clock_text(n, *unit)),
        DataType::Time32(unit) => time!(Time32MillisecondType, |n| clock_text(n, *unit)),
        DataType::Time64(unit @ TimeUnit::Microsecond) => time!(Time64MicrosecondType, |n| clock_text(n, *unit)),
        DataType::Time64(unit) => time!(Time64NanosecondType, |n| clock_text(n, *unit)),
        DataType::Timestamp(unit, zone) => {
            let stamp = Stamp { units: units_of(*unit), instant: zone.is_some() };
            match unit {
                TimeUnit::Second => time!(TimestampSecondType, |n| time_text(n, stamp)),
                TimeUnit::Millisecond => time!(TimestampMillisecondType, |n| time_text(n, stamp)),
                TimeUnit::Microsecond => time!(TimestampMicrosecondType, |n| time_text(n, stamp)),
                TimeUnit::Nanosecond => time!(TimestampNanosecondType, |n| time_text(n, stamp)),
            }
        }
        DataType::Duration(TimeUnit::Second) => number!(DurationSecondType, "{}"),
        DataType::Duration(TimeUnit::Millisecond) => number!(DurationMillisecondType, "{}"),
        DataType::Duration(TimeUnit::Microsecond) => number!(DurationMicrosecondType, "{}"),
        DataType::Duration(TimeUnit::Nanosecond) => number!(DurationNanosecondType, "{}"),
        DataType::Decimal32(..) => out.push_str(&array.as_primitive::<Decimal32Type>().value_as_string(at)),
        DataType::Decimal64(..) => out.push_str(&array.as_primitive::<Decimal64Type>().value_as_string(at)),
        DataType::Decimal128(..) => out.push_str(&array.as_primitive::<Decimal128Type>().value_as_string(at)),
        DataType::Decimal256(..) => out.push_str(&array.as_primitive::<Decimal256Type>().value_as_string(at)),
        DataType::Dictionary(key, _) => of_dictionary(key, array, at, out),
        DataType::List(_) => list(&array.as_list::<i32>().value(at), out),
        DataType::LargeList(_) => list(&array.as_list::<i64>().value(at), out),
        DataType::FixedSizeList(..) => list(&array.as_fixed_size_list().value(at), out),
        DataType::Map(..) => list(&array.as_map().value(at), out),
        DataType::Struct(fields) => {
            let columns = array.as_struct();
            out.push('{');
            for (i, field) in fields.iter().enumerate() {
                let _ = write!(out, "{}{}: ", if i > 0 { ", " } else { "" }, field.name());
                nested(columns.column(i), at, out);
            }
            out.push('}');
        }
        // `is_read` has refused them before; nothing stands in a column of nothing.
        _ => {}
    }
}
