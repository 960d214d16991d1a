use std::os::unix::process::CommandExt;
use std::process::{Child, ChildStdin, Command, Stdio};

use anyhow::{Context, Result};

/// Runs a command when it is dropped, or when this process ends, however it ends: by an error, a signal, or killed.
///
/// It waits in a process of its own for the end of a pipe whose other end this process holds.
#[derive(Debug)]
pub struct Guard {
    waiting: Child,
    held: Option<ChildStdin>,
}

impl Guard {
    /// Sees to it that the command runs at the end.
    pub fn over(command: &Command) -> Result<Guard> {
        // It outlives whatever ends this process and its group.
        let mut waiting = Command::new("sh");
        waiting
            .args(["-c", "trap '' INT TERM HUP; cat >/dev/null; \"$@\" >/dev/null 2>&1", "sh"])
            .arg(command.get_program())
            .args(command.get_args())
            .current_dir("/")
            .stdin(Stdio::piped())
            .process_group(0);
        let mut waiting = waiting.spawn().context("starting a guard")?;
        let held = waiting.stdin.take();
        Ok(Guard { waiting, held })
    }

    /// Sees to it that a process does not outlive this one; `signal`, such as `TERM`, is what ends it.
    pub fn ending(process: u32, signal: &str) -> Result<Guard> {
        Guard::over(Command::new("kill").args(["-s", signal]).arg(process.to_string()))
    }

    /// The same for a process and all in its group.
    pub fn ending_group(leader: u32, signal: &str) -> Result<Guard> {
        Guard::over(Command::new("kill").args(["-s", signal, "--"]).arg(format!("-{leader}")))
    }
}

impl Drop for Guard {
    fn drop(&mut self) {
        drop(self.held.take());
        if let Err(error) = self.waiting.wait() {
            eprintln!("a guard could not be waited for: {error}");
        }
    }
}
