//! How busy this machine is.

use std::fs;

/// How busy this machine is.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Load {
    /// The share of its processors that were busy since the last look, 0 to 1; none at the first.
    pub busy: Option<f64>,
    /// Processors.
    pub processors: usize,
    /// Memory in use, in bytes.
    pub memory_used: u64,
    /// All memory, in bytes.
    pub memory: u64,
}

/// Looks at the machine again and again.
#[derive(Debug, Default)]
pub struct Machine {
    before: Option<(u64, u64)>,
}

impl Machine {
    /// How busy it is now; what the system does not tell is 0.
    pub fn look(&mut self) -> Load {
        let stat = fs::read_to_string("/proc/stat").unwrap_or_default();
        let line = stat.lines().next().unwrap_or_default();
        let ticks: Vec<u64> = line.split_whitespace().skip(1).filter_map(|n| n.parse().ok()).collect();
        let total: u64 = ticks.iter().take(8).sum();
        let idle: u64 = ticks.iter().skip(3).take(2).sum();
        let busy = self.before.filter(|(t, _)| total > *t).map(|(t, i)| 1.0 - idle.saturating_sub(i) as f64 / (total - t) as f64);
        self.before = Some((total, idle));
        let text = fs::read_to_string("/proc/meminfo").unwrap_or_default();
        let kib = |name: &str| {
            let line = text.lines().find(|l| l.starts_with(name));
            line.and_then(|l| l.split_whitespace().nth(1)).and_then(|n| n.parse::<u64>().ok()).unwrap_or(0) * 1024
        };
        let (memory, free) = (kib("MemTotal:"), kib("MemAvailable:"));
        let processors = std::thread::available_parallelism().map_or(1, usize::from);
        Load { busy, processors, memory_used: memory.saturating_sub(free), memory }
    }
}
