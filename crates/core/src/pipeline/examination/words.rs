//! What came of rules in few words, for logs and tables.

use crate::figure::number;
use crate::table::examine::{ColumnFault, Found, On};

/// What is amiss with a column.
pub fn fault(fault: &ColumnFault) -> String {
    match fault {
        ColumnFault::Absent { column } => format!("{column} is not there"),
        ColumnFault::Beyond { column } => format!("{column} should not be there"),
        ColumnFault::Type { column, from, to } => format!("{column} is {to}, not {from}"),
        ColumnFault::Drift { column, effect, p } => {
            let p = if *p < 0.001 { "< 0.001".to_string() } else { number(*p) };
            format!("{column} has drifted by {} (p {p})", number(*effect))
        }
    }
}

/// How far a rule holds: the share of the rows, or the figure.
pub fn measure(found: &Found) -> String {
    let what = if found.on == On::Columns { "column" } else { "row" };
    let rows = |n: u64| if n == 1 { format!("1 {what}") } else { format!("{n} {what}s") };
    match (found.value, found.columns.is_empty()) {
        _ if !found.columns.is_empty() => found.columns.iter().map(fault).collect::<Vec<_>>().join("; "),
        (Some(value), _) if found.on == On::Share => format!("it is {} %", number((value * 10_000.0).round() / 100.0)),
        (Some(value), _) if found.on == On::Columns => format!("at most {}", number(value)),
        (Some(value), _) => format!("it is {}", number(value)),
        (None, _) if found.holds.is_none() => "nothing to judge".into(),
        (None, _) if found.breaking == 0 => format!("all of {}", rows(found.of)),
        (None, _) => {
            let share = 100.0 * found.breaking as f64 / found.of.max(1) as f64;
            // So few that they would read as none.
            let share = if share < 0.01 { "less than 0.01".to_string() } else { number((share * 100.0).round() / 100.0) };
            format!("{} of {} break it ({share} %)", found.breaking, rows(found.of))
        }
    }
}
