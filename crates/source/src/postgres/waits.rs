use hurnix_core::WaitKind;

/// The wait kind of a PostgreSQL wait event; `None` as type means that the session runs.
///
/// Sorted by what the session is really kept from: an internal lock around the write-ahead log counts
/// as waiting for the log, not as a latch.
pub fn wait_kind(event_type: Option<&str>, event: Option<&str>) -> WaitKind {
    let event = event.unwrap_or_default();
    match event_type {
        None => WaitKind::Running,
        Some("Lock") => WaitKind::Lock,
        Some("BufferPin") => WaitKind::Latch,
        Some("Client") => WaitKind::Network,
        Some("IPC") => match event {
            "BufferIO" | "BufferIo" => WaitKind::StorageRead,
            _ => WaitKind::Peer,
        },
        Some("LWLock") => match event {
            "WALWrite" | "WALInsert" | "WALWriteLock" => WaitKind::LogWrite,
            "BufferIO" => WaitKind::StorageRead,
            _ if event.starts_with("Aio") => WaitKind::StorageRead,
            _ => WaitKind::Latch,
        },
        Some("IO") => io(event),
        Some(_) => WaitKind::Other,
    }
}

fn io(event: &str) -> WaitKind {
    if event.starts_with("WAL") || event.starts_with("Wal") {
        WaitKind::LogWrite
    } else if event.starts_with("BufFile") || event.starts_with("Buffile") {
        WaitKind::TempSpace
    } else if event.ends_with("Read") || event.ends_with("Prefetch") || event.starts_with("Aio") {
        // What the server reads ahead of need is all that it does asynchronously so far.
        WaitKind::StorageRead
    } else {
        WaitKind::StorageWrite
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn events_sort_by_what_they_wait_for() {
        let cases = [
            (None, None, WaitKind::Running),
            (Some("IO"), Some("DataFileRead"), WaitKind::StorageRead),
            (Some("IO"), Some("DataFilePrefetch"), WaitKind::StorageRead),
            (Some("IO"), Some("AioIoCompletion"), WaitKind::StorageRead),
            (Some("IO"), Some("AioIoUringExecution"), WaitKind::StorageRead),
            (Some("LWLock"), Some("AioUringCompletion"), WaitKind::StorageRead),
            (Some("IO"), Some("DataFileExtend"), WaitKind::StorageWrite),
            (Some("IO"), Some("SLRURead"), WaitKind::StorageRead),
            (Some("IO"), Some("WALSync"), WaitKind::LogWrite),
            (Some("IO"), Some("WalSync"), WaitKind::LogWrite),
            (Some("IO"), Some("BufFileWrite"), WaitKind::TempSpace),
            (Some("IO"), Some("BuffileRead"), WaitKind::TempSpace),
            (Some("Lock"), Some("transactionid"), WaitKind::Lock),
            (Some("LWLock"), Some("WALWrite"), WaitKind::LogWrite),
            (Some("LWLock"), Some("BufferContent"), WaitKind::Latch),
            (Some("BufferPin"), Some("BufferPin"), WaitKind::Latch),
            (Some("Client"), Some("ClientWrite"), WaitKind::Network),
            (Some("IPC"), Some("SyncRep"), WaitKind::Peer),
            (Some("Timeout"), Some("PgSleep"), WaitKind::Other),
            (Some("Extension"), Some("Extension"), WaitKind::Other),
        ];
        for (event_type, event, kind) in cases {
            assert_eq!(wait_kind(event_type, event), kind, "{event_type:?} {event:?}");
        }
    }
}
