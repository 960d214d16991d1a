use hurnix_core::readings::host_process::HostProcess;
use hurnix_core::time::MICROS_PER_SECOND;

use super::TICKS_PER_SECOND;

/// Bytes in which the kernel counts the memory of a process, on every machine that servers are run on with its
/// default configuration.
const PAGE_BYTES: i64 = 4096;

/// A process from its file `stat`; nothing where that is not what it should be.
///
/// Its name stands in brackets and may hold any of them, blanks too: what follows the last one is the rest
/// (proc_pid_stat(5)).
pub fn process(stat: &str) -> Option<HostProcess> {
    let (head, rest) = stat.rsplit_once(')')?;
    let (process, name) = head.split_once('(')?;
    let fields: Vec<&str> = rest.split_ascii_whitespace().collect();
    // The first of them is the third of the file.
    let field = |number: usize| fields.get(number - 3)?.parse::<i64>().ok();
    let microseconds = |ticks: i64| ticks * (MICROS_PER_SECOND / TICKS_PER_SECOND);
    Some(HostProcess {
        process: process.trim().parse().ok()?,
        name: name.to_owned(),
        parent: i32::try_from(field(4)?).ok()?,
        cpu_us: microseconds(field(14)? + field(15)?),
        ended_us: microseconds(field(16)? + field(17)?),
        began: field(22)?,
        memory_bytes: field(24)? * PAGE_BYTES,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn fields_are_counted_from_behind_the_name_whatever_that_holds() {
        let rest = "S 812 900 900 0 -1 4194560 9 0 0 0 150 25 40 5 20 0 1 0 77123 226000896 2048 0";
        let told = process(&format!("4711 (odd) name (x) {rest}")).unwrap();
        assert_eq!((told.process, told.parent, told.name.as_str(), told.began), (4711, 812, "odd) name (x", 77123));
        assert_eq!((told.cpu_us, told.ended_us, told.memory_bytes), (1_750_000, 450_000, 2048 * 4096));
    }

    #[test]
    fn this_test_is_a_process_too() {
        let own = process(&std::fs::read_to_string("/proc/self/stat").unwrap()).unwrap();
        assert_eq!(own.process, std::process::id() as i32);
        assert!(own.memory_bytes > 0 && own.began > 0, "{own:?}");
    }

    #[test]
    fn what_is_not_what_it_should_be_is_none() {
        for text in [
            "",
            "1",
            "1 (init",
            "x (init) S 0",
            "1 (init) S 0 1 1",
            "1 (init) S a b c d e f g h i j k l m n o p q r s t u v",
        ] {
            assert_eq!(process(text), None, "{text}");
        }
    }
}
