//! A cache bounded by the bytes of its values.

use std::hash::Hash;

use quick_cache::Weighter;
use quick_cache::unsync::Cache;

/// How many values a cache makes room for at first.
const EXPECTED_VALUES: usize = 64;

/// Values of so many bytes in all.
pub struct Bounded<K, V>(Cache<K, Weighed<V>, ByBytes>);

struct Weighed<V> {
    value: V,
    bytes: u64,
}

#[derive(Clone)]
struct ByBytes;

impl<K, V> Weighter<K, Weighed<V>> for ByBytes {
    fn weight(&self, _: &K, weighed: &Weighed<V>) -> u64 {
        // What weighs nothing would never be evicted.
        weighed.bytes.max(1)
    }
}

impl<K: Hash + Eq, V> Bounded<K, V> {
    /// None yet, and at most so many bytes.
    pub fn new(max_bytes: u64) -> Self {
        Self(Cache::with_weighter(EXPECTED_VALUES, max_bytes, ByBytes))
    }

    /// A value.
    pub fn get(&self, key: &K) -> Option<&V> {
        self.0.get(key).map(|weighed| &weighed.value)
    }

    /// Remembers a value that takes so many bytes; one that takes more than all may is not remembered.
    pub fn put(&mut self, key: K, value: V, bytes: u64) {
        self.0.insert(key, Weighed { value, bytes });
    }

    /// Forgets a value.
    pub fn remove(&mut self, key: &K) {
        self.0.remove(key);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_stay_within_the_bound() {
        let mut bounded = Bounded::new(1000);
        for number in 0..500 {
            bounded.put(number % 80, number, 100);
            assert!(bounded.0.weight() <= 1000 && bounded.0.len() <= 10);
        }
        bounded.put(7, 7, 2000);
        assert_eq!(bounded.get(&7), None);
        bounded.put(8, 8, 10);
        assert_eq!(bounded.get(&8), Some(&8));
        bounded.put(8, 9, 10);
        assert_eq!(bounded.get(&8), Some(&9));
        bounded.put(8, 10, 2000);
        assert_eq!(bounded.get(&8), None, "not the value of before either");
        bounded.put(8, 8, 10);
        bounded.remove(&8);
        assert_eq!(bounded.get(&8), None);
    }
}
