//! The `textum` command.

fn main() -> std::process::ExitCode {
    textum::main()
}
