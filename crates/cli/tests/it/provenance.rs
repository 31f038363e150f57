//! Provenance in open forms, read by other people's libraries.

use serde_json::Value;
use textum_testkit::{Tiny, fixture};

use crate::publishing::shed_with_keys;
use crate::textum;

fn form(tiny: &Tiny, form: &str) -> Value {
    let key: &[&str] = if form == "intoto" { &["--key", "ada"] } else { &[] };
    textum(tiny, &[&["trace", "build/model.txt", "--format", form], key].concat()).expect(0).json()
}

#[test]
fn each_form_says_what_the_trace_says() {
    let Some(tiny) = shed_with_keys() else { return };
    let trace = textum(&tiny, &["trace", "build/model.txt", "--format", "json"]).expect(0).json();
    let nodes = trace["nodes"].as_array().unwrap();
    let digest = trace["target"]["digest"].as_str().unwrap().trim_start_matches("b3:").to_string();
    let of = |kind: &str| nodes.iter().filter(|n| n["kind"] == kind).count();
    let prov = form(&tiny, "prov");
    let table = |name: &str| prov[name].as_object().map_or(0, serde_json::Map::len);
    assert_eq!(table("activity"), of("stage"));
    assert_eq!(table("entity") + table("activity"), nodes.len());
    let writes = |e: &&Value| e["role"] == "writes";
    assert_eq!(table("wasGeneratedBy"), trace["edges"].as_array().unwrap().iter().filter(writes).count());
    let bill = form(&tiny, "cyclonedx");
    assert_eq!(bill["metadata"]["component"]["hashes"][0]["content"], digest.as_str());
    assert_eq!(bill["metadata"]["component"]["modelCard"]["quantitativeAnalysis"]["performanceMetrics"][0]["value"], "0.8");
    assert!(bill["components"].as_array().unwrap().iter().any(|c| c["type"] == "data" && c["name"] == "rows.csv"));
    let made = form(&tiny, "ro-crate");
    let graph = made["@graph"].as_array().unwrap();
    // Whatever is named is there.
    let ids: Vec<&str> = graph.iter().filter_map(|e| e["@id"].as_str()).collect();
    for entity in graph {
        for value in
            entity.as_object().unwrap().iter().filter(|(key, _)| !matches!(key.as_str(), "@id" | "actionStatus")).map(|(_, v)| v)
        {
            let refs: Vec<&Value> = value.as_array().map_or_else(|| vec![value], |all| all.iter().collect());
            for id in refs.iter().filter_map(|r| r["@id"].as_str()) {
                assert!(ids.contains(&id) || id.starts_with("https://w3id.org/ro/crate"), "{id} is not there: {entity}");
            }
        }
    }
    // The same trace always says the same.
    assert_eq!(form(&tiny, "cyclonedx"), bill);
    assert_eq!(form(&tiny, "ro-crate"), made);
    textum(&tiny, &["trace", "build/model.txt", "--format", "intoto"]).expect(0).warns("not signed");
    textum(&tiny, &["trace", "last", "--format", "intoto", "--key", "nowhere"]).expect(2);
    for form in ["prov", "intoto", "cyclonedx", "ro-crate"] {
        textum(&tiny, &["trace", "last", "--format", form]).expect(0);
        textum(&tiny, &["runs", "--format", form]).expect(2);
    }
}

#[test]
fn other_libraries_read_and_accept_each_form() {
    let Ok(python) = std::env::var("TEXTUM_READERS") else {
        eprintln!(
            "not run: TEXTUM_READERS names no Python with prov, cyclonedx-python-lib, rocrate, securesystemslib and in-toto-attestation"
        );
        return;
    };
    let Some(tiny) = shed_with_keys() else { return };
    for name in ["prov", "intoto", "cyclonedx"] {
        tiny.write(&format!("forms/{name}.json"), form(&tiny, name).to_string());
    }
    tiny.write("forms/crate/ro-crate-metadata.json", form(&tiny, "ro-crate").to_string());
    for path in ["textum.toml", "rows.csv", "build/model.txt"] {
        tiny.write(&format!("forms/crate/{path}"), std::fs::read(tiny.path(path)).unwrap());
    }
    let trace = textum(&tiny, &["trace", "build/model.txt", "--format", "json"]).expect(0).json();
    let digest = trace["target"]["digest"].as_str().unwrap().trim_start_matches("b3:").to_string();
    let script = fixture("readers").join("check.py").display().to_string();
    let ran = tiny.textum(&python, &[&script, "forms", &digest]).expect(0);
    ran.says("prov:").says("cyclonedx:").says("intoto: 1 subjects").says("ro-crate: 2 actions");
    tiny.write("allowed", format!("ada {}", tiny.read("ada.pub")));
    let judge = "ssh-keygen -Y verify -f allowed -I ada -n textum-registry -s forms/message.sig < forms/message";
    tiny.textum("sh", &["-c", judge]).expect(0).says("Good");
}
