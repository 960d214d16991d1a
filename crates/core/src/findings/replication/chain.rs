//! Who follows whom, among servers that are under care and those that are only heard of.
//!
//! A replica tells the address that it reads from and the slot that it uses there; the server at the other end tells the
//! name, the address and the slot of each that reads. Both are brought together by the sign that says most: slot, then
//! name, then address, then that only one is left. A sign that fits two says nothing.
//!
//! Laws, tested below: the order of the servers changes no link; nobody follows itself, over however many others; each
//! reader of a server is one place.

use super::Member;
use crate::readings::replication::{Follower, Replication, Upstream};

/// A server of a chain.
#[derive(Debug, Clone, PartialEq)]
pub enum Server {
    /// One under care, by its number among those given.
    Member(usize),
    /// One that is only heard of.
    Outside {
        /// What it calls itself, or its address where it has no name.
        name: String,
        /// Its address; empty where that is not known.
        address: String,
    },
}

/// A server with its place in the chain.
#[derive(Debug, Clone, PartialEq)]
pub struct Place {
    /// Which.
    pub server: Server,
    /// Servers between it and the one that all follow.
    pub depth: usize,
    /// What it follows, by its number among the places; nothing for the first of a chain.
    pub follows: Option<usize>,
    /// As what the one that it follows sees it: numbers of the member and of its follower.
    pub seen_as: Option<(usize, usize)>,
}

/// Servers in order: each first of a chain, and below it those that follow it. Quadratic in the servers of a system, which
/// are few.
pub fn chain(members: &[Member]) -> Vec<Place> {
    let mut upstream: Vec<Option<usize>> = (0..members.len()).map(|at| member_followed(members, at)).collect();
    let circular: Vec<usize> = (0..members.len()).filter(|at| returns(&upstream, *at)).collect();
    for at in circular {
        upstream[at] = None;
    }
    let seen_as = readers(members, &upstream);
    let mut places = Vec::new();
    for first in 0..members.len() {
        if !members[first].replication.is_replica {
            place(members, &upstream, &seen_as, first, None, &mut places);
        }
    }
    let mut heard_of: Vec<(String, usize)> = Vec::new();
    for first in 0..members.len() {
        if !members[first].replication.is_replica || upstream[first].is_some() {
            continue;
        }
        let address = members[first].replication.upstream.as_ref().map(address_of).unwrap_or_default();
        let known = heard_of.iter().find(|(of, _)| !address.is_empty() && *of == address).map(|(_, place)| *place);
        let above = known.unwrap_or_else(|| {
            places.push(outside(String::new(), address.clone(), None, &places));
            heard_of.push((address, places.len() - 1));
            places.len() - 1
        });
        place(members, &upstream, &seen_as, first, Some(above), &mut places);
    }
    in_order(places)
}

/// Adds a member with all that follow it.
fn place(
    members: &[Member],
    upstream: &[Option<usize>],
    seen_as: &[Option<usize>],
    member: usize,
    above: Option<usize>,
    places: &mut Vec<Place>,
) {
    let depth = above.map_or(0, |above| places[above].depth + 1);
    let seen = upstream[member].zip(seen_as[member]);
    places.push(Place { server: Server::Member(member), depth, follows: above, seen_as: seen });
    let here = places.len() - 1;
    for below in (0..members.len()).filter(|below| upstream[*below] == Some(member)) {
        place(members, upstream, seen_as, below, Some(here), places);
    }
    let is_known = |follower: &usize| {
        (0..members.len()).any(|below| upstream[below] == Some(member) && seen_as[below] == Some(*follower))
    };
    for (number, follower) in members[member].replication.followers.iter().enumerate() {
        if !is_known(&number) {
            let mut one = outside(follower.name.clone(), follower.client.clone(), Some(here), places);
            one.seen_as = Some((member, number));
            places.push(one);
        }
    }
}

fn address_of(upstream: &Upstream) -> String {
    match upstream.port {
        Some(port) if !upstream.host.is_empty() => format!("{}:{port}", upstream.host),
        _ => upstream.host.clone(),
    }
}

fn outside(name: String, address: String, above: Option<usize>, places: &[Place]) -> Place {
    let name = if name.is_empty() { address.clone() } else { name };
    let depth = above.map_or(0, |above| places[above].depth + 1);
    Place { server: Server::Outside { name, address }, depth, follows: above, seen_as: None }
}

/// Those that follow a server right below it, whenever they were found.
fn in_order(places: Vec<Place>) -> Vec<Place> {
    fn take(places: &[Place], at: usize, above: Option<usize>, ordered: &mut Vec<Place>) {
        ordered.push(Place { follows: above, ..places[at].clone() });
        let here = ordered.len() - 1;
        for below in (0..places.len()).filter(|below| places[*below].follows == Some(at)) {
            take(places, below, Some(here), ordered);
        }
    }
    let mut ordered = Vec::with_capacity(places.len());
    for first in (0..places.len()).filter(|at| places[*at].follows.is_none()) {
        take(&places, first, None, &mut ordered);
    }
    ordered
}

/// The member that a replica follows.
fn member_followed(members: &[Member], at: usize) -> Option<usize> {
    let own = members[at].replication;
    let upstream = own.upstream.as_ref()?;
    let others = || (0..members.len()).filter(|other| *other != at && is_same_system(own, members[*other].replication));
    let has_address = |other: &usize| {
        !upstream.host.is_empty()
            && members[*other].host == upstream.host
            && upstream.port.is_none_or(|port| port == members[*other].port)
    };
    let has_reader = |is_it: &dyn Fn(&Follower) -> bool, other: &usize| {
        members[*other].replication.followers.iter().any(|follower| !follower.is_logical && is_it(follower))
    };
    let by_slot = |follower: &Follower| follower.slot.is_some() && follower.slot == upstream.slot;
    let by_name = |follower: &Follower| !own.name.is_empty() && follower.name == own.name;
    let by_client = |follower: &Follower| !follower.client.is_empty() && follower.client == members[at].host;
    only(others().filter(has_address))
        .or_else(|| only(others().filter(|other| has_reader(&by_slot, other))))
        .or_else(|| only(others().filter(|other| has_reader(&by_name, other))))
        .or_else(|| only(others().filter(|other| has_reader(&by_client, other))))
}

fn is_same_system(one: &Replication, other: &Replication) -> bool {
    one.system_identifier.is_some() && one.system_identifier == other.system_identifier
}

/// Whether whoever follows a chain upwards comes back to where it began.
fn returns(upstream: &[Option<usize>], from: usize) -> bool {
    let mut at = from;
    for _ in 0..upstream.len() {
        match upstream[at] {
            Some(above) if above == from => return true,
            Some(above) => at = above,
            None => return false,
        }
    }
    false
}

/// As which of its followers a member is seen by the one that it follows.
fn readers(members: &[Member], upstream: &[Option<usize>]) -> Vec<Option<usize>> {
    type Fits<'a> = dyn Fn(&Member, &Upstream, &Follower) -> bool + 'a;
    let by_slot = |_: &Member, upstream: &Upstream, follower: &Follower| {
        follower.slot.is_some() && follower.slot == upstream.slot
    };
    let by_name = |member: &Member, _: &Upstream, follower: &Follower| {
        !member.replication.name.is_empty() && member.replication.name == follower.name
    };
    let by_address = |member: &Member, _: &Upstream, follower: &Follower| member.host == follower.client;
    let anyhow = |_: &Member, _: &Upstream, _: &Follower| true;
    let signs: [&Fits; 4] = [&by_slot, &by_name, &by_address, &anyhow];
    let mut seen_as: Vec<Option<usize>> = vec![None; members.len()];
    for fits in signs {
        for above in 0..members.len() {
            let followers = &members[above].replication.followers;
            let open = |seen_as: &[Option<usize>]| -> (Vec<usize>, Vec<usize>) {
                let below = (0..members.len()).filter(|at| upstream[*at] == Some(above));
                let taken: Vec<usize> = below.clone().filter_map(|at| seen_as[at]).collect();
                let is_open = |number: &usize| !followers[*number].is_logical && !taken.contains(number);
                (below.filter(|at| seen_as[*at].is_none()).collect(), (0..followers.len()).filter(is_open).collect())
            };
            let (below, free) = open(&seen_as);
            let is_it = |at: usize, number: usize| {
                let upstream = members[at].replication.upstream.as_ref();
                upstream.is_some_and(|upstream| fits(&members[at], upstream, &followers[number]))
            };
            for at in &below {
                let own = only(free.iter().copied().filter(|number| is_it(*at, *number)));
                seen_as[*at] =
                    own.filter(|number| only(below.iter().filter(|other| is_it(**other, *number))).is_some());
            }
        }
    }
    seen_as
}

/// The one that there is; nothing where there are several.
fn only<T>(mut of: impl Iterator<Item = T>) -> Option<T> {
    let first = of.next()?;
    of.next().is_none().then_some(first)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn reader(name: &str, client: &str, slot: Option<&str>) -> Follower {
        Follower { name: name.into(), client: client.into(), slot: slot.map(Into::into), ..Follower::default() }
    }

    fn primary(followers: Vec<Follower>) -> Replication {
        Replication { system_identifier: Some("7".into()), followers, ..Replication::default() }
    }

    fn replica(name: &str, host: &str, slot: Option<&str>) -> Replication {
        let upstream =
            Upstream { host: host.into(), port: Some(5432), slot: slot.map(Into::into), ..Upstream::default() };
        Replication { is_replica: true, name: name.into(), upstream: Some(upstream), ..primary(Vec::new()) }
    }

    fn placed(members: &[(&str, Replication)]) -> Vec<String> {
        let members: Vec<Member> =
            members.iter().map(|(host, replication)| Member { host, port: 5432, replication }).collect();
        let places = chain(&members);
        let line = |place: &Place| {
            let name = match &place.server {
                Server::Member(at) => members[*at].host,
                Server::Outside { name, .. } => name,
            };
            let seen = place.seen_as.map(|(above, number)| format!(" as {}.{number}", members[above].host));
            format!("{}{name}{}", "> ".repeat(place.depth), seen.unwrap_or_default())
        };
        places.iter().map(line).collect()
    }

    #[test]
    fn replicas_of_replicas_stand_below_what_they_follow() {
        let mut middle = replica("", "passage-1", Some("two"));
        middle.followers = vec![reader("board", "10.4.1.9", None)];
        let members = [
            ("passage-3", replica("board", "passage-2", None)),
            ("passage-2", middle),
            (
                "passage-1",
                primary(vec![reader("elsewhere", "10.4.1.7", None), reader("walreceiver", "10.4.1.2", Some("two"))]),
            ),
        ];
        let told =
            ["passage-1", "> passage-2 as passage-1.1", "> > passage-3 as passage-2.0", "> elsewhere as passage-1.0"];
        assert_eq!(placed(&members), told);
    }

    #[test]
    fn what_is_not_under_care_is_told_by_its_address_once() {
        let members = [("passage-2", replica("", "passage-1", None)), ("passage-3", replica("", "passage-1", None))];
        assert_eq!(placed(&members), ["passage-1:5432", "> passage-2", "> passage-3"]);
    }

    #[test]
    fn a_sign_that_fits_two_says_nothing_and_the_last_one_left_is_it() {
        let readers = |names: [&str; 2]| primary(names.map(|name| reader(name, "", None)).to_vec());
        let two = |names| {
            let replicas = [("a", replica("gate", "p", None)), ("b", replica("gate", "p", None))];
            placed(&[("p", readers(names)), replicas[0].clone(), replicas[1].clone()])
        };
        assert_eq!(two(["gate", "gate"]), ["p", "> a", "> b", "> gate as p.0", "> gate as p.1"]);
        let one = placed(&[
            ("p", readers(["gate", "deck"])),
            ("a", replica("gate", "p", None)),
            ("b", replica("", "p", None)),
        ]);
        assert_eq!(one, ["p", "> a as p.0", "> b as p.1"]);
    }

    #[test]
    fn two_primaries_of_one_system_are_two_chains_and_another_system_is_none_of_it() {
        let mut other = replica("", "p", None);
        other.system_identifier = Some("8".into());
        let members = [("p", primary(Vec::new())), ("q", primary(Vec::new())), ("o", other)];
        assert_eq!(placed(&members), ["p", "q", "p:5432", "> o"]);
    }

    #[test]
    fn a_primary_registered_by_name_is_found_by_the_address_that_reads_there() {
        let primary = primary(vec![reader("walreceiver", "10.4.1.2", None)]);
        let members = [("passage.skerry.example", primary), ("10.4.1.2", replica("", "10.4.1.1", None))];
        assert_eq!(placed(&members), ["passage.skerry.example", "> 10.4.1.2 as passage.skerry.example.0"]);
    }

    #[test]
    fn servers_that_follow_each_other_follow_nobody() {
        let members = [("a", replica("", "b", None)), ("b", replica("", "a", None))];
        assert_eq!(placed(&members).len(), 4);
    }

    /// Servers of which each follows an earlier one or nobody, some by slot, some by name, some by address alone.
    fn systems() -> impl Strategy<Value = Vec<(String, Replication)>> {
        prop::collection::vec((any::<prop::sample::Index>(), 0u8..3, any::<bool>()), 1..8).prop_map(|drawn| {
            let mut servers: Vec<(String, Replication)> = vec![("h0".into(), primary(Vec::new()))];
            for (number, (above, sign, is_heard)) in drawn.into_iter().enumerate() {
                let above = above.index(servers.len());
                let (host, slot) = (format!("h{}", number + 1), (sign == 0).then(|| format!("s{number}")));
                let name = if sign == 1 { format!("n{number}") } else { String::new() };
                if is_heard {
                    servers[above].1.followers.push(reader(&name, &host, slot.as_deref()));
                }
                let upstream = servers[above].0.clone();
                servers.push((host, replica(&name, &upstream, slot.as_deref())));
            }
            servers
        })
    }

    /// What follows what, by address, and as which reader.
    fn links(servers: &[(String, Replication)]) -> Vec<(String, Option<String>, Option<String>)> {
        let members: Vec<Member> =
            servers.iter().map(|(host, replication)| Member { host, port: 5432, replication }).collect();
        let places = chain(&members);
        let name = |place: &Place| match &place.server {
            Server::Member(at) => servers[*at].0.clone(),
            Server::Outside { name, .. } => format!("outside {name}"),
        };
        let reader = |(above, number): (usize, usize)| members[above].replication.followers[number].client.clone();
        let link = |place: &Place| (name(place), place.follows.map(|at| name(&places[at])), place.seen_as.map(reader));
        let mut links: Vec<_> = places.iter().map(link).collect();
        links.sort();
        links
    }

    proptest! {
        #[test]
        fn the_order_changes_no_link_and_each_is_placed_once(servers in systems(), turn in 0usize..8) {
            let mut turned = servers.clone();
            let by = turn % turned.len();
            turned.rotate_left(by);
            prop_assert_eq!(links(&servers), links(&turned));
            let found = links(&servers);
            prop_assert_eq!(found.len(), servers.len());
            for (own, above, seen) in &found {
                prop_assert!(above.as_ref() != Some(own));
                prop_assert!(seen.as_ref().is_none_or(|seen| seen == own), "{} is seen as {:?}", own, seen);
            }
        }
    }
}
