use hurnix_core::changes::remedy::{Qualified, Remedy};

use super::act::order;
use super::quote::quote;

/// What to run on a server against something that was found, ready to be run; nothing where Hurnix itself is meant.
pub fn remedy_statement(remedy: &Remedy) -> Option<String> {
    Some(match remedy {
        Remedy::Act(action) => order(action)?.statement + ";",
        Remedy::DropIndex(index) => format!("DROP INDEX CONCURRENTLY {};", qualified(index)),
        Remedy::Vacuum(table) => format!("VACUUM (ANALYZE) {};", qualified(table)),
        Remedy::FreezeDatabase => "VACUUM (FREEZE, VERBOSE);".into(),
        Remedy::DropSlot(slot) => format!("SELECT pg_drop_replication_slot('{}');", slot.replace('\'', "''")),
        Remedy::WidenSequence(sequence) => format!("ALTER SEQUENCE {} AS bigint;", qualified(sequence)),
        Remedy::ListPrepared => {
            "SELECT gid, owner, database, prepared FROM pg_prepared_xacts ORDER BY prepared;\n-- ROLLBACK PREPARED '…';"
                .into()
        }
        Remedy::Set { name, value } => format!("ALTER SYSTEM SET {name} = {value};\nSELECT pg_reload_conf();"),
        Remedy::Run(statement) => statement.clone(),
    })
}

/// A thing with its schema, as a statement names it.
pub fn qualified(thing: &Qualified) -> String {
    if thing.schema.is_empty() {
        quote(&thing.name)
    } else {
        format!("{}.{}", quote(&thing.schema), quote(&thing.name))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn whatever_a_name_is_it_stays_a_name() {
        let statement = |remedy| remedy_statement(&remedy).unwrap();
        let index = Qualified::of("public.Gate\"; DROP TABLE deck; --");
        assert_eq!(
            statement(Remedy::DropIndex(index)),
            "DROP INDEX CONCURRENTLY public.\"Gate\"\"; DROP TABLE deck; --\";"
        );
        assert_eq!(statement(Remedy::WidenSequence(Qualified::of("berth"))), "ALTER SEQUENCE berth AS bigint;");
        assert_eq!(statement(Remedy::DropSlot("gate's".into())), "SELECT pg_drop_replication_slot('gate''s');");
    }
}
