//! Parquet, written anew without some rows. Values travel as they are read, with their levels, so that nested columns need no
//! word of their own.

use std::sync::Arc;

use parquet::column::reader::{ColumnReader, ColumnReaderImpl};
use parquet::column::writer::ColumnWriterImpl;
use parquet::data_type::{
    BoolType, ByteArrayType, DataType, DoubleType, FixedLenByteArrayType, FloatType, Int32Type, Int64Type, Int96Type,
};
use parquet::errors::ParquetError;
use parquet::file::properties::WriterProperties;
use parquet::file::reader::{FileReader, SerializedFileReader};
use parquet::file::writer::SerializedFileWriter;

use textum_base::fsio::OutFile;

use crate::read::{guarded, malformed};
use crate::{Table, TableError};

/// So many rows are copied at once.
const TOGETHER: usize = 8192;

/// Which rows of a group stay, asked for one after another.
struct Keep<'g> {
    going: &'g [u64],
    at: u64,
}

impl Keep<'_> {
    fn next(&mut self) -> bool {
        let goes = self.going.first() == Some(&self.at);
        if goes {
            self.going = &self.going[1..];
        }
        self.at += 1;
        !goes
    }
}

/// Copies a column of a row group.
fn copy<T: DataType>(
    mut from: ColumnReaderImpl<T>,
    to: &mut ColumnWriterImpl<'_, T>,
    (most_defined, most_repeated): (i16, i16),
    mut keep: Keep<'_>,
) -> Result<(), ParquetError> {
    loop {
        let (mut defined, mut repeated, mut values) = (Vec::new(), Vec::new(), Vec::new());
        let (records, _, _) = from.read_records(
            TOGETHER,
            (most_defined > 0).then_some(&mut defined),
            (most_repeated > 0).then_some(&mut repeated),
            &mut values,
        )?;
        if records == 0 {
            return Ok(());
        }
        // A column that must be there has no levels: its values are its rows.
        let levels = if most_defined > 0 { defined.len() } else { values.len() };
        let (mut kept_defined, mut kept_repeated, mut kept) = (Vec::new(), Vec::new(), Vec::new());
        let (mut stays, mut values) = (true, values.into_iter());
        for at in 0..levels {
            if repeated.get(at).is_none_or(|level| *level == 0) {
                stays = keep.next();
            }
            let is_there = defined.get(at).is_none_or(|level| *level == most_defined);
            let value = if is_there { values.next() } else { None };
            if stays {
                kept_defined.extend(defined.get(at));
                kept_repeated.extend(repeated.get(at));
                kept.extend(value);
            }
        }
        let (defined, repeated) = (most_defined > 0, most_repeated > 0);
        to.write_batch(&kept, defined.then_some(&kept_defined[..]), repeated.then_some(&kept_repeated[..]))?;
    }
}

/// Writes the table into a file but for the rows at these places, from 0, in order.
pub fn write(table: &Table<'_>, going: &[u64], to: OutFile) -> Result<(), TableError> {
    let file = table.file()?;
    guarded(table, || {
        let wrong = |e: ParquetError| malformed(table, e);
        let reader = SerializedFileReader::new(file).map_err(wrong)?;
        let about = reader.metadata().file_metadata();
        let schema = about.schema_descr().root_schema_ptr();
        let mut properties = WriterProperties::builder().set_key_value_metadata(about.key_value_metadata().cloned());
        let first = reader.metadata().row_groups().first().and_then(|group| group.columns().first());
        if let Some(first) = first {
            properties = properties.set_compression(first.compression());
        }
        let mut writer = SerializedFileWriter::new(to, schema, Arc::new(properties.build())).map_err(wrong)?;
        let mut first_row = 0u64;
        for at in 0..reader.num_row_groups() {
            let group = reader.get_row_group(at).map_err(wrong)?;
            let rows = u64::try_from(group.metadata().num_rows()).unwrap_or(0);
            let from = going.partition_point(|row| *row < first_row);
            let until = going.partition_point(|row| *row < first_row + rows);
            // A group of which nothing stays is not written.
            if (until - from) as u64 == rows {
                first_row += rows;
                continue;
            }
            let mut out = writer.next_row_group().map_err(wrong)?;
            let mut column = 0;
            while let Some(mut to) = out.next_column().map_err(wrong)? {
                let about = group.metadata().column(column).column_descr();
                let levels = (about.max_def_level(), about.max_rep_level());
                let keep = Keep { going: &going[from..until], at: first_row };
                let copied = match group.get_column_reader(column).map_err(wrong)? {
                    ColumnReader::BoolColumnReader(r) => copy(r, to.typed::<BoolType>(), levels, keep),
                    ColumnReader::Int32ColumnReader(r) => copy(r, to.typed::<Int32Type>(), levels, keep),
                    ColumnReader::Int64ColumnReader(r) => copy(r, to.typed::<Int64Type>(), levels, keep),
                    ColumnReader::Int96ColumnReader(r) => copy(r, to.typed::<Int96Type>(), levels, keep),
                    ColumnReader::FloatColumnReader(r) => copy(r, to.typed::<FloatType>(), levels, keep),
                    ColumnReader::DoubleColumnReader(r) => copy(r, to.typed::<DoubleType>(), levels, keep),
                    ColumnReader::ByteArrayColumnReader(r) => copy(r, to.typed::<ByteArrayType>(), levels, keep),
                    ColumnReader::FixedLenByteArrayColumnReader(r) => copy(r, to.typed::<FixedLenByteArrayType>(), levels, keep),
                };
                copied.map_err(wrong)?;
                to.close().map_err(wrong)?;
                column += 1;
            }
            out.close().map_err(wrong)?;
            first_row += rows;
        }
        writer.close().map_err(wrong)?;
        Ok(())
    })
}
