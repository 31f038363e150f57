//! Reading a manifest's tree into its types, as strictly as the schema of these types says: a table is a table, a choice is
//! a string. What is read so departs from the schema in nothing, so that the schema is made for a manifest with mistakes
//! only, to tell them: to make it took longer than all else about most manifests.

use serde::de::value::{Error, MapDeserializer, SeqDeserializer, StrDeserializer};
use serde::de::{Deserialize, Deserializer, Error as _, IntoDeserializer, Unexpected, Visitor};
use serde::forward_to_deserialize_any;
use toml::Spanned;
use toml::de::{DeTable, DeValue, ValueDeserializer};

use super::form::ManifestForm;

/// What a manifest's tree says; `None` if something is wrong with it.
pub(super) fn read(root: &Spanned<DeTable<'_>>) -> Option<ManifestForm> {
    let form: ManifestForm = read_as(root)?;
    let does_something = form.stage.values().all(|s| s.run.is_some() || s.evaluate.is_some() || s.examine.is_some());
    does_something.then_some(form)
}

/// What a document's tree says as a type; `None` if something is wrong with it.
pub(super) fn read_as<T: for<'de> Deserialize<'de>>(root: &Spanned<DeTable<'_>>) -> Option<T> {
    let root = root.get_ref().iter().map(|(key, value)| {
        let name: &str = key.get_ref();
        (name, Strict { value: value.get_ref(), dates: if name == "params" { Dates::Below } else { Dates::Nowhere } })
    });
    T::deserialize(MapDeserializer::<_, Error>::new(root)).ok()
}

/// A type that stands in a table, where one of several may stand: a list of its fields is none.
pub(super) fn in_a_table<'de, D: Deserializer<'de>, T: Deserialize<'de>>(from: D) -> Result<T, D::Error> {
    struct Table<T>(std::marker::PhantomData<T>);
    impl<'de, T: Deserialize<'de>> Visitor<'de> for Table<T> {
        type Value = T;
        fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
            f.write_str("a table")
        }
        fn visit_map<A: serde::de::MapAccess<'de>>(self, map: A) -> Result<T, A::Error> {
            T::deserialize(serde::de::value::MapAccessDeserializer::new(map))
        }
    }
    from.deserialize_any(Table(std::marker::PhantomData))
}

/// A value of the tree.
struct Strict<'a, 't> {
    value: &'a DeValue<'t>,
    dates: Dates,
}

/// Whether a date may stand somewhere: nowhere but among the parameters.
#[derive(Clone, Copy, PartialEq)]
enum Dates {
    Nowhere,
    Below,
    Here,
}

impl<'t> IntoDeserializer<'t, Error> for Strict<'_, 't> {
    type Deserializer = Self;
    fn into_deserializer(self) -> Self {
        self
    }
}

impl<'t> Strict<'_, 't> {
    fn whole<V: Visitor<'t>>(self, visitor: V, fits: impl Fn(&str) -> bool) -> Result<V::Value, Error> {
        match self.value {
            DeValue::Integer(digits) if fits(digits.as_str()) => self.deserialize_any(visitor),
            _ => Err(Error::invalid_type(Unexpected::Other("something else"), &"a whole number from 0 on")),
        }
    }
}

impl<'de> Deserializer<'de> for Strict<'_, 'de> {
    type Error = Error;

    fn deserialize_any<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, Error> {
        let dates = if self.dates == Dates::Nowhere { Dates::Nowhere } else { Dates::Here };
        let below = |value| Strict { value, dates };
        match self.value {
            DeValue::String(text) => visitor.visit_str(text),
            DeValue::Boolean(is) => visitor.visit_bool(*is),
            DeValue::Array(items) => {
                let mut items = SeqDeserializer::new(items.iter().map(|item| below(item.get_ref())));
                let value = visitor.visit_seq(&mut items)?;
                items.end().map(|()| value)
            }
            DeValue::Table(entries) => {
                let mut entries = MapDeserializer::new(entries.iter().map(|(k, v)| (&**k.get_ref(), below(v.get_ref()))));
                let value = visitor.visit_map(&mut entries)?;
                entries.end().map(|()| value)
            }
            DeValue::Datetime(_) if self.dates != Dates::Here => Err(Error::custom("a date")),
            DeValue::Integer(_) | DeValue::Float(_) | DeValue::Datetime(_) => {
                let own = ValueDeserializer::from(Spanned::new(0..0, self.value.clone()));
                own.deserialize_any(visitor).map_err(Error::custom)
            }
        }
    }

    fn deserialize_option<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, Error> {
        visitor.visit_some(self)
    }

    fn deserialize_newtype_struct<V: Visitor<'de>>(self, _: &'static str, visitor: V) -> Result<V::Value, Error> {
        visitor.visit_newtype_struct(self)
    }

    fn deserialize_struct<V: Visitor<'de>>(
        self,
        _: &'static str,
        _: &'static [&'static str],
        visitor: V,
    ) -> Result<V::Value, Error> {
        match self.value {
            DeValue::Table(_) => self.deserialize_any(visitor),
            _ => Err(Error::invalid_type(Unexpected::Other("something else"), &"a table")),
        }
    }

    fn deserialize_enum<V: Visitor<'de>>(self, _: &'static str, _: &'static [&'static str], visitor: V) -> Result<V::Value, Error> {
        match self.value {
            DeValue::String(text) => visitor.visit_enum(StrDeserializer::new(text)),
            _ => Err(Error::invalid_type(Unexpected::Other("something else"), &"a string")),
        }
    }

    fn deserialize_u32<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, Error> {
        self.whole(visitor, |digits| digits.parse::<u32>().is_ok())
    }

    fn deserialize_u64<V: Visitor<'de>>(self, visitor: V) -> Result<V::Value, Error> {
        self.whole(visitor, |digits| digits.parse::<u64>().is_ok())
    }

    forward_to_deserialize_any! {
        bool i8 i16 i32 i64 i128 u8 u16 u128 f32 f64 char str string bytes byte_buf unit unit_struct seq tuple
        tuple_struct map identifier ignored_any
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use toml::Value;

    use super::super::Document;
    use super::super::form::manifest_schema;
    use super::super::shape::check_shape;
    use super::*;

    const GOOD: &str = r#"
        registry = { depot = "team" }
        [project]
        name = "looms"
        param_files = ["conf/fit.yaml"]
        [data.stops]
        path = "d.csv"
        key = ["loom"]
        hold = "reference"
        table = { header = true, null = ["-"] }
        [params]
        fit = { rate = 0.1, deep = [1, 2], since = 2026-01-02T03:04:05Z, all = true }
        [environment]
        packages = "all"
        keep = "files"
        [observe]
        system = "count"
        trust = "packages"
        [stage.fit]
        run = ["python3", "fit.py"]
        each = { fold = "0..4", rate = [0.1, 2, "x"], loom = { column = "loom", of = "stops" } }
        reads = ["d.csv"]
        needs = { cpus = 2, memory = "1GiB", gpus = 0x10 }
        environment = "none"
        observe = false
        [stage.judge]
        evaluate = { predictions = "p", truth = "y", score = "s", threshold = 1, bins = 10, by = ["loom", ["loom", "team"]], intervals = { level = 0.95, seed = 7 }, cost = { false_positive = 1, false_negative = 2.5 }, interval = ["a", "b"] }
        [stage.other]
        evaluate = { predictions = "p", truth = "y", scores = { warp = "p_warp" }, intervals = 0.9 }
        [stage.look]
        examine = { data = "d.csv", rules = ["x > 1", { rule = "y > 1", severity = "warn" }] }
        [[gate]]
        after = "judge"
        check = "auc > 0.8"
        [metric.auc]
        better = "higher"
        [model.stops]
        files = ["m"]
        rows = 20
        [depot.team]
        url = "/depot"
        options = { a = true, b = 1, c = "x" }
        [place.box]
        kind = "ssh"
        address = "box"
    "#;

    /// The ways to all values, by keys and positions.
    fn ways(value: &Value, way: &mut Vec<String>, all: &mut Vec<Vec<String>>) {
        all.push(way.clone());
        let below: Vec<(String, &Value)> = match value {
            Value::Table(table) => table.iter().map(|(k, v)| (k.clone(), v)).collect(),
            Value::Array(items) => items.iter().enumerate().map(|(at, v)| (at.to_string(), v)).collect(),
            _ => Vec::new(),
        };
        for (key, value) in below {
            way.push(key);
            ways(value, way, all);
            way.pop();
        }
    }

    fn at<'v>(value: &'v mut Value, way: &[String]) -> &'v mut Value {
        way.iter().fold(value, |value, key| match value {
            Value::Table(table) => &mut table[key.as_str()],
            Value::Array(items) => &mut items[key.parse::<usize>().unwrap()],
            _ => panic!("no way leads below a scalar"),
        })
    }

    /// What is read without the schema, and what is read where the schema allows it.
    fn both(text: &str) -> (Option<String>, Option<String>) {
        let document = Document::parse(text).unwrap_or_else(|_| panic!("{text}"));
        static SCHEMA: std::sync::LazyLock<serde_json::Value> = std::sync::LazyLock::new(manifest_schema);
        let (mistakes, _) = check_shape(&document.root, &SCHEMA);
        let form = ManifestForm::deserialize(toml::de::Deserializer::from(document.root.clone()));
        let by_schema = form.ok().filter(|_| mistakes.is_empty()).map(|form| format!("{form:?}"));
        (read(&document.root).map(|form| format!("{form:?}")), by_schema)
    }

    #[test]
    fn what_the_schema_refuses_is_not_read() {
        let (strict, by_schema) = both(GOOD);
        assert!(strict.is_some());
        assert_eq!(strict, by_schema);
        let base = "[project]\nname = \"looms\"\n[data.d]\npath = \"d\"\n[stage.s]\nrun = \"x\"\n";
        // As the fields of a type in their order, as a choice with nothing in it, out of range, nothing to do.
        for (from, to) in [
            ("[project]\nname = \"looms\"", "project = [\"looms\", \"about\", []]"),
            ("path = \"d\"", "path = \"d\"\nhold = { store = {} }"),
            ("run = \"x\"", "evaluate = { predictions = \"p\", truth = \"y\", score = \"s\", intervals = [0.9, 10, 1] }"),
            ("run = \"x\"", "examine = { data = \"d\", rules = [[\"x > 1\"]] }"),
            ("run = \"x\"", "run = \"x\"\neach = { loom = [\"column\", \"of\"], shift = [[\"a\", \"b\"]] }"),
            ("run = \"x\"", "run = \"x\"\nneeds = { cpus = 4294967296 }"),
            ("run = \"x\"", "run = \"x\"\nneeds = { cpus = -1 }"),
            ("run = \"x\"", "reads = [\"d\"]"),
        ] {
            assert!(base.contains(from));
            let text = base.replace(from, to);
            let document = Document::parse(&text).unwrap_or_else(|_| panic!("{text}"));
            assert!(read(&document.root).is_none(), "{to}");
            // A list of two texts is a list of values too.
            assert_eq!(both(&text).1, None, "{to}");
        }
    }

    proptest! {
        #[test]
        fn what_is_read_is_what_the_schema_allows(which in any::<prop::sample::Index>(), what in 0..18usize, key in "(name|run|path|all|store|url|kind|x)") {
            let mut tree: Value = toml::from_str(GOOD).unwrap();
            let mut all = Vec::new();
            ways(&tree, &mut Vec::new(), &mut all);
            all.remove(0);
            let way = &all[which.index(all.len())];
            let (last, parent) = way.split_last().unwrap();
            let strings = |words: &[&str]| Value::Array(words.iter().map(|w| Value::String(w.to_string())).collect());
            let one = |value: Value| Value::Table([(key.clone(), value)].into_iter().collect());
            let put = match what {
                0 => Value::String("x".into()),
                1 => Value::String(key.clone()),
                2 => Value::Integer(1),
                3 => Value::Integer(-1),
                4 => Value::Integer(i64::MAX),
                5 => Value::Float(0.5),
                6 => Value::Float(f64::NAN),
                7 => Value::Boolean(true),
                8 => "1979-05-27T07:32:00Z".parse().map(Value::Datetime).unwrap(),
                9 => Value::Array(Vec::new()),
                10 => strings(&["a", "b"]),
                11 => Value::Array(vec![Value::Integer(1), Value::Integer(2)]),
                12 => Value::Array(vec![strings(&["a", "b"])]),
                13 => Value::Table(toml::Table::new()),
                14 => one(Value::String("x".into())),
                15 => one(Value::Table(toml::Table::new())),
                16 => Value::Array(vec![one(Value::Boolean(true))]),
                _ => {
                    // Nothing: the key goes.
                    if let Value::Table(table) = at(&mut tree, parent) {
                        table.remove(last);
                    }
                    Value::Boolean(false)
                }
            };
            if what < 17 {
                *at(&mut tree, way) = put;
            }
            let text = toml::to_string(&tree).unwrap();
            let (strict, by_schema) = both(&text);
            prop_assert_eq!(strict, by_schema, "{}", text);
        }
    }
}
