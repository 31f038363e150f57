//! Runs at work on one machine, watched and stopped from another by way of a depot.

use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use serde_json::Value;
use textum_testkit::{Ran, Tiny};

use crate::TEXTUM;

struct Shed {
    tiny: Tiny,
}

impl Shed {
    /// Two machines with a training that goes on until it is told to end, or for ever.
    fn new() -> Shed {
        let tiny = Tiny::new();
        let manifest = "[project]\nname = \"looms\"\n[depot.team]\nurl = \"../depot\"\nlive = true\n[environment]\nvars = [\"SHED_TOKEN\"]\n\
             [stage.fit]\nrun = \"sh fit.sh\"\nreads = [\"fit.sh\"]\nwrites = [\"model\"]\n[metric.loss]\nbetter = \"lower\"\n";
        let script = "echo warp $SHED_TOKEN\ns=0\nwhile [ ! -e ../end ]; do s=$((s+1)); \
             echo \"{\\\"metric\\\": {\\\"loss\\\": 0.$s}, \\\"step\\\": $s, \\\"progress\\\": 0.25}\" >> $TEXTUM_SIGNALS; sleep 0.2; done\necho x > model\n";
        for machine in ["ada", "bo"] {
            tiny.write(&format!("{machine}/textum.toml"), manifest);
            tiny.write(&format!("{machine}/fit.sh"), script);
        }
        tiny.write("setup/textum.toml", "[project]\nname = \"setup\"\n");
        let shed = Shed { tiny };
        shed.on("setup", &["depot", "add", "team", "../depot"]).expect(0);
        shed
    }

    fn variables(&self, machine: &str) -> Vec<(String, String)> {
        let more =
            [("USER", machine.to_string()), ("TEXTUM_HOST", format!("{machine}-loom")), ("SHED_TOKEN", "hunter2-hunter2".into())];
        let own = self.tiny.variables().into_iter().filter(|(name, _)| name != "USER");
        own.chain(more.map(|(k, v)| (k.to_string(), v))).collect()
    }

    fn on(&self, machine: &str, words: &[&str]) -> Ran {
        let variables = self.variables(machine);
        let variables: Vec<(&str, &str)> = variables.iter().map(|(k, v)| (k.as_str(), v.as_str())).collect();
        self.tiny.textum_with(TEXTUM, &[&["-C", machine], words].concat(), &variables)
    }

    fn begin(&self, machine: &str) -> Child {
        let mut command = Command::new(TEXTUM);
        command.args(["-C", machine, "run", "-q"]).current_dir(self.tiny.root()).env_clear().envs(self.variables(machine));
        command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap()
    }

    fn live(&self, machine: &str) -> Vec<Value> {
        let ran = self.on(machine, &["runs", "--live", "--format", "json"]).expect(0);
        if ran.out.trim().is_empty() { Vec::new() } else { ran.json().as_array().unwrap().clone() }
    }

    /// Waits until another machine sees what is meant.
    fn until(&self, what: &str, seen: impl Fn() -> bool) {
        let began = Instant::now();
        while !seen() {
            assert!(began.elapsed() < Duration::from_secs(60), "{what} was never seen");
            std::thread::sleep(Duration::from_millis(100));
        }
    }
}

#[test]
fn a_run_is_watched_and_stopped_from_another_machine() {
    let shed = Shed::new();
    assert!(shed.live("bo").is_empty());
    shed.on("bo", &["runs", "--live"]).expect(0).warns("no run is at work");
    shed.on("bo", &["follow", "--depot", "team"]).expect(3).warns("has heard of no run at work");
    let mut child = shed.begin("ada");
    shed.until("the run", || shed.live("bo").iter().any(|r| r["stages"] == serde_json::json!(["fit"])));
    let live = shed.live("bo");
    assert_eq!((&live[0]["by"], &live[0]["depot"], &live[0]["heard_of"]), (&"ada@ada-loom".into(), &"team".into(), &true.into()));
    assert_eq!(shed.live("ada")[0]["depot"], Value::Null, "at home it is here");
    shed.on("bo", &["runs", "--live"]).expect(0).says("elsewhere, told to team").says("--depot team watches");
    // What it prints leaves the machine without secrets.
    let told = shed.tiny.textum("grep", &["-rl", "hunter2", "depot"]);
    assert_eq!(told.out, "");
    let told = shed.tiny.textum("grep", &["-rl", "warp (masked)", "depot"]);
    assert!(!told.out.is_empty());
    // Another project hears nothing of it.
    shed.tiny.write("dye/textum.toml", "[project]\nname = \"dyes\"\n[depot.team]\nurl = \"../depot\"\n");
    assert!(shed.live("dye").is_empty());

    let run = live[0]["run"].as_str().unwrap().to_string();
    let short = run.rsplit('-').next().unwrap().to_string();
    shed.on("bo", &["stop", "zzzz", "--depot", "team"]).expect(3).warns("no run `zzzz`");
    shed.on("bo", &["stop", &short, "--depot", "team", "--because", "the warp is wrong"]).expect(0).says("is stopped");
    assert_eq!(child.wait().unwrap().code(), Some(1));
    shed.on("ada", &["show", "last"]).expect(0).says("it was stopped by bo@bo-loom: the warp is wrong");
    assert!(shed.live("bo").is_empty(), "what was told goes with the run");
}

#[test]
fn a_follower_elsewhere_sees_steps_and_the_end() {
    let shed = Shed::new();
    let mut child = shed.begin("ada");
    shed.until("the run", || !shed.live("bo").is_empty());
    let ended = std::thread::scope(|scope| {
        let follower = scope.spawn(|| shed.on("bo", &["follow", "--depot", "team"]));
        shed.until("the second telling", || {
            let told = shed.tiny.textum("grep", &["-rl", "progress", "depot/live"]);
            !told.out.is_empty()
        });
        shed.tiny.write("end", "");
        follower.join().unwrap()
    });
    assert_eq!(child.wait().unwrap().code(), Some(0));
    ended.expect(0).says("fit  started").warns("has ended");
}

#[test]
fn what_a_depot_says_of_a_run_is_checked_before_it_is_believed() {
    let shed = Shed::new();
    let live = |run: &str, text: &str| shed.tiny.write(&format!("depot/live/{run}/state"), text);
    let state = |run: &str, stage: &str| {
        format!(
            "{{\"type\": \"textum/live-run@1\", \"run\": \"{run}\", \"project\": \"looms\", \"draft\": \"{{\", \"events\": \"\", \
             \"stages\": {{\"{stage}\": {{\"begun\": \"\", \"points\": \"\", \"signals\": \"\", \"log\": \"\"}}}}}}"
        )
    };
    live("20261123-0542-7f3a", "not JSON");
    live("20261123-0542-7f3b", &state("20261123-0542-7f3b", "../../../evil"));
    live("20261123-0542-7f3c", &state("20261123-0542-0000", "fit"));
    live("evil", &state("evil", "fit"));
    assert!(shed.live("bo").is_empty());
    shed.on("bo", &["follow", "7f3b", "--depot", "team"]).expect(3);
    // Sound names and nothing behind them: listed, and not followed.
    live("20261123-0542-7f3d", &state("20261123-0542-7f3d", "fit"));
    assert_eq!(shed.live("bo").len(), 1);
    shed.on("bo", &["follow", "7f3d", "--depot", "team"]).expect(3);
}
