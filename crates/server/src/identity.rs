//! What a process of Hurnix calls itself among those that share the repository: the same when it is started again, so
//! that it takes up the instances at once that it held, and never the same as another one that runs.

use std::fs::{self, File};
use std::io::{Read, Seek, Write};
use std::path::Path;

use anyhow::{Context, Result};
use nix::fcntl::{Flock, FlockArg};

use crate::secrets::random_text;

/// Processes that may share one folder.
const MOST_PROCESSES: usize = 100;

/// An identity, kept in a file beside the key file that no other process can take while this one runs. The file says
/// which machine and folder it belongs to: a copy of it elsewhere is somebody else.
#[derive(Debug)]
pub struct Identity {
    /// The name.
    pub name: String,
    /// Locked until the process ends, however it does; nothing where no file can be written.
    _file: Option<Flock<File>>,
}

impl Identity {
    /// Takes the first identity beside the key file that is free, or makes one.
    pub fn take(key_file: &Path) -> Result<Identity> {
        let machine = nix::unistd::gethostname().context("asking for the name of this machine")?;
        let machine = machine.to_string_lossy().replace(char::is_whitespace, "-");
        for number in 1..=MOST_PROCESSES {
            let path = key_file.with_extension(format!("process-{number}"));
            let taking = || format!("taking the identity {}", path.display());
            let file = match fs::OpenOptions::new().read(true).write(true).create(true).truncate(false).open(&path) {
                Ok(file) => file,
                // Such as a key that is mounted to be read only.
                Err(error) => {
                    tracing::warn!(%error, file = %path.display(), "this process has no lasting identity: when it is started again, its instances wait until its leases end");
                    return Ok(Identity { name: format!("{machine} {}", random_text(20)), _file: None });
                }
            };
            let Ok(mut file) = Flock::lock(file, FlockArg::LockExclusiveNonblock) else { continue };
            let mut name = String::new();
            file.read_to_string(&mut name).with_context(taking)?;
            let owner = format!("{machine}:{}", path.canonicalize().with_context(taking)?.display());
            if name.rsplit_once(' ').is_none_or(|(of, _)| of != owner) {
                name = format!("{owner} {}", random_text(20));
                file.set_len(0).with_context(taking)?;
                file.rewind().with_context(taking)?;
                file.write_all(name.as_bytes()).with_context(taking)?;
            }
            return Ok(Identity { name, _file: Some(file) });
        }
        anyhow::bail!("{MOST_PROCESSES} processes of Hurnix run beside {} already", key_file.display())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_process_that_starts_again_is_the_same_and_two_at_a_time_are_not() {
        let folder = tempfile::tempdir().unwrap();
        let key_file = folder.path().join("hurnix.key");
        let first = Identity::take(&key_file).unwrap();
        let second = Identity::take(&key_file).unwrap();
        assert_ne!(first.name, second.name);
        let name = first.name.clone();
        drop(first);
        assert_eq!(Identity::take(&key_file).unwrap().name, name);
        // Where nothing can be written, it serves for this once.
        let nowhere = Path::new("/no/such/folder/hurnix.key");
        assert_ne!(Identity::take(nowhere).unwrap().name, Identity::take(nowhere).unwrap().name);
        // A file that was copied.
        let copied = folder.path().join("copy.key");
        fs::copy(key_file.with_extension("process-1"), copied.with_extension("process-1")).unwrap();
        assert_ne!(Identity::take(&copied).unwrap().name, name);
    }
}
