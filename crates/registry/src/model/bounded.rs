//! A cache bounded by size; the oldest values go first.

use std::borrow::Borrow;
use std::collections::{HashMap, VecDeque};
use std::hash::Hash;

/// Values of so many bytes in all.
pub struct Bounded<K, V> {
    values: HashMap<K, (V, u64)>,
    /// The keys, the oldest first; a key that was removed goes when it becomes the oldest.
    order: VecDeque<K>,
    bytes: u64,
    most: u64,
}

impl<K: Hash + Eq + Clone, V> Bounded<K, V> {
    /// None yet, and at most so many bytes.
    pub fn new(most: u64) -> Self {
        Self { values: HashMap::new(), order: VecDeque::new(), bytes: 0, most }
    }

    /// A value.
    pub fn get<Q: Hash + Eq + ?Sized>(&self, key: &Q) -> Option<&V>
    where
        K: Borrow<Q>,
    {
        self.values.get(key).map(|(value, _)| value)
    }

    /// Remembers a value that takes so many bytes; one that takes more than all may is not remembered.
    pub fn put(&mut self, key: K, value: V, bytes: u64) {
        if bytes > self.most {
            self.remove(&key);
            return;
        }
        match self.values.insert(key.clone(), (value, bytes)) {
            Some((_, before)) => self.bytes -= before,
            None => self.order.push_back(key),
        }
        self.bytes += bytes;
        while self.bytes > self.most
            && let Some(oldest) = self.order.pop_front()
        {
            self.remove(&oldest);
        }
    }

    /// Forgets a value.
    pub fn remove<Q: Hash + Eq + ?Sized>(&mut self, key: &Q)
    where
        K: Borrow<Q>,
    {
        if let Some((_, bytes)) = self.values.remove(key) {
            self.bytes -= bytes;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_newest_stay_within_the_bound() {
        let mut bounded = Bounded::new(1000);
        for number in 0..500 {
            bounded.put(number % 80, number, 100);
            assert!(bounded.bytes <= 1000 && bounded.values.len() <= 10);
            assert_eq!(bounded.get(&(number % 80)), Some(&number));
        }
        bounded.put(7, 7, 2000);
        assert_eq!(bounded.get(&7), None);
        for _ in 0..1000 {
            bounded.put(8, 8, 10);
            bounded.remove(&8);
        }
        assert!(bounded.order.len() < 1100 && bounded.bytes <= 1000);
    }
}
