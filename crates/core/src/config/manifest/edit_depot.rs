//! Depots written into a manifest's text, and taken out of it; everything else stays as it is.

use std::collections::BTreeMap;

use toml_edit::{DocumentMut, InlineTable, Item, Table, Value, value};

/// Adds a depot; `None` where the text is no TOML, or has one of this name.
pub fn add_depot(text: &str, name: &str, url: &str, options: &BTreeMap<String, String>, live: bool) -> Option<String> {
    let mut document: DocumentMut = text.parse().ok()?;
    let depots = document.entry("depot").or_insert_with(|| {
        let mut table = Table::new();
        table.set_implicit(true);
        Item::Table(table)
    });
    let depots = depots.as_table_like_mut()?;
    if depots.contains_key(name) {
        return None;
    }
    let mut depot = Table::new();
    depot.insert("url", value(url));
    if !options.is_empty() {
        let pairs: InlineTable = options.iter().map(|(k, v)| (k.as_str(), Value::from(v.as_str()))).collect();
        depot.insert("options", value(pairs));
    }
    if live {
        depot.insert("live", value(true));
    }
    if !text.trim().is_empty() {
        depot.decor_mut().set_prefix("\n");
    }
    depots.insert(name, Item::Table(depot));
    Some(document.to_string())
}

/// Takes a depot out; `None` where there is none of this name.
pub fn remove_depot(text: &str, name: &str) -> Option<String> {
    let mut document: DocumentMut = text.parse().ok()?;
    let depots = document.get_mut("depot")?.as_table_like_mut()?;
    depots.remove(name)?;
    if depots.is_empty() {
        document.remove("depot");
    }
    Some(document.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_depot_comes_and_goes_and_the_rest_stays() {
        let text = "# looms\n[project]\nname = \"looms\" # short\n\n[stage.fit]\nrun = \"x\"\n";
        let options = BTreeMap::from([("region".to_string(), "eu-1".to_string())]);
        let added = add_depot(text, "team", "s3://looms/x", &options, true).unwrap();
        let table = "\n[depot.team]\nurl = \"s3://looms/x\"\noptions = { region = \"eu-1\" }\nlive = true\n";
        assert_eq!(added, format!("{text}{table}"));
        assert_eq!(add_depot(&added, "team", "y", &BTreeMap::new(), false), None);
        let two = add_depot(&added, "disk", "/mnt/x", &BTreeMap::new(), false).unwrap();
        assert!(two.ends_with("\n[depot.disk]\nurl = \"/mnt/x\"\n"), "{two}");
        assert_eq!(remove_depot(&two, "disk").unwrap(), added);
        assert_eq!(remove_depot(&added, "team").unwrap(), text);
        assert_eq!(remove_depot(text, "team"), None);
        assert_eq!(add_depot("", "a", "/x", &BTreeMap::new(), false).unwrap(), "[depot.a]\nurl = \"/x\"\n");
        assert_eq!(add_depot("[", "a", "/x", &BTreeMap::new(), false), None);
    }
}
