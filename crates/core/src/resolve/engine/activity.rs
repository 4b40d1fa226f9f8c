//! The activity of variables in recent conflicts: a hard search decides the most active first.

use super::Var;

/// By how much the activity of older conflicts decays.
const DECAY: f64 = 0.95;

/// Above this all activities are scaled down.
const MAX_SIZE: f64 = 1e100;

/// Not in the queue.
const ABSENT: usize = usize::MAX;

/// Activities, and a queue of the variables that may need a decision (a binary heap, the most active first).
#[derive(Debug)]
pub struct Activity {
    of: Vec<f64>,
    weight: f64,
    heap: Vec<Var>,
    place: Vec<usize>,
}

impl Default for Activity {
    fn default() -> Self {
        Self { of: Vec::new(), weight: 1.0, heap: Vec::new(), place: Vec::new() }
    }
}

impl Activity {
    /// Adds a variable.
    pub fn add(&mut self, var: Var) {
        self.of.push(0.0);
        self.place.push(ABSENT);
        self.queue(var);
    }

    /// Raises the activity of a variable in a conflict.
    pub fn bump(&mut self, var: Var) {
        self.of[var] += self.weight;
        if self.of[var] > MAX_SIZE {
            self.of.iter_mut().for_each(|activity| *activity /= MAX_SIZE);
            self.weight /= MAX_SIZE;
        }
        if self.place[var] != ABSENT {
            self.sift_up(self.place[var]);
        }
    }

    /// Lets later conflicts count more than earlier ones.
    pub fn decay(&mut self) {
        self.weight /= DECAY;
    }

    /// Puts a variable into the queue, unless it is there.
    pub fn queue(&mut self, var: Var) {
        if self.place[var] == ABSENT {
            self.place[var] = self.heap.len();
            self.heap.push(var);
            self.sift_up(self.place[var]);
        }
    }

    /// Removes the most active variable from the queue.
    pub fn take(&mut self) -> Option<Var> {
        let last = self.heap.pop()?;
        self.place[last] = ABSENT;
        let Some(first) = self.heap.first().copied() else { return Some(last) };
        self.place[first] = ABSENT;
        self.heap[0] = last;
        self.place[last] = 0;
        self.sift_down(0);
        Some(first)
    }

    /// Whether one comes before the other: the more active, and of equals the older.
    fn precedes(&self, one: Var, other: Var) -> bool {
        self.of[one] > self.of[other] || (self.of[one] == self.of[other] && one < other)
    }

    fn sift_up(&mut self, mut at: usize) {
        while at > 0 && self.precedes(self.heap[at], self.heap[(at - 1) / 2]) {
            self.swap(at, (at - 1) / 2);
            at = (at - 1) / 2;
        }
    }

    fn sift_down(&mut self, mut at: usize) {
        loop {
            let below = [2 * at + 1, 2 * at + 2].into_iter().filter(|child| *child < self.heap.len());
            let first = below.reduce(|a, b| if self.precedes(self.heap[b], self.heap[a]) { b } else { a });
            match first.filter(|child| self.precedes(self.heap[*child], self.heap[at])) {
                Some(child) => {
                    self.swap(at, child);
                    at = child;
                }
                None => return,
            }
        }
    }

    fn swap(&mut self, a: usize, b: usize) {
        self.heap.swap(a, b);
        self.place[self.heap[a]] = a;
        self.place[self.heap[b]] = b;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_most_active_comes_first_and_of_equals_the_oldest() {
        let mut activity = Activity::default();
        (0..6).for_each(|var| activity.add(var));
        activity.bump(4);
        activity.decay();
        activity.bump(2);
        let order: Vec<Var> = std::iter::from_fn(|| activity.take()).collect();
        assert_eq!(order, [2, 4, 0, 1, 3, 5]);
        activity.queue(3);
        activity.queue(4);
        activity.queue(4);
        assert_eq!(std::iter::from_fn(|| activity.take()).collect::<Vec<_>>(), [4, 3]);
    }
}
