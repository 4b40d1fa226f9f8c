//! Lays out a graph in layers, so that needs lead from left to right.
//!
//! A node's layer is the longest way to it from a project. A need that passes over layers bends once in each, and bends take
//! part in the order of a layer like nodes. The order is improved from both sides as long as fewer needs cross; then each
//! is moved to where what it is joined to stands, as far as its neighbours leave room.

use std::collections::BTreeSet;

use bibliotax_core::graph::Graph;

/// How often the order and the places are improved from both sides.
const SWEEPS: usize = 12;

/// After how many of these without fewer crossings the order is left as it is.
const IN_VAIN: usize = 4;

/// What stands in a layer.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Cell {
    /// A node, by its number.
    Node(usize),
    /// A need on its way, by the number of its line.
    Bend(usize),
}

/// A need as a line through the layers.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Line {
    /// The number of the node on the left, and of the one on the right.
    pub ends: (usize, usize),
    /// Whether the need leads from right to left, because nodes need each other in a circle.
    pub is_backward: bool,
    /// The cells that it passes, those of its ends included: layer and place in it.
    pub cells: Vec<(usize, usize)>,
}

/// A graph in layers.
#[derive(Debug, Clone)]
pub struct Layers {
    /// What stands in each layer, from top to bottom.
    pub cells: Vec<Vec<Cell>>,
    /// How far down each of them stands, its middle.
    pub heights: Vec<Vec<f64>>,
    /// The needs.
    pub lines: Vec<Line>,
}

impl Layers {
    /// Puts a graph into layers; nodes want so much room from top to bottom, and bends so much.
    pub fn of(graph: &Graph<'_>, room: f64, bend_room: f64) -> Self {
        let lines = forward(graph);
        let layer = layer_of_each(graph.nodes.len(), &lines);
        let mut layers = Self::begin(&layer, lines);
        layers.order();
        layers.place(room, bend_room);
        layers
    }

    /// Nodes and bends in their layers, not yet in order.
    fn begin(layer: &[usize], mut lines: Vec<Line>) -> Self {
        let count = layer.iter().max().map_or(0, |last| last + 1);
        let mut cells: Vec<Vec<Cell>> = vec![Vec::new(); count];
        let mut place = vec![0; layer.len()];
        for (node, at) in layer.iter().enumerate() {
            place[node] = cells[*at].len();
            cells[*at].push(Cell::Node(node));
        }
        for (number, line) in lines.iter_mut().enumerate() {
            let (from, to) = line.ends;
            line.cells.push((layer[from], place[from]));
            for (between, cells) in cells.iter_mut().enumerate().take(layer[to]).skip(layer[from] + 1) {
                line.cells.push((between, cells.len()));
                cells.push(Cell::Bend(number));
            }
            line.cells.push((layer[to], place[to]));
        }
        let heights = cells.iter().map(|cells| vec![0.0; cells.len()]).collect();
        Self { cells, heights, lines }
    }

    /// Improves the order of the layers while that lets fewer needs cross.
    fn order(&mut self) {
        let wires = NeedGraph::of(self);
        let first: Places = self.cells.iter().map(|cells| (0..cells.len()).collect()).collect();
        let mut best = (wires.crossings(&first), first);
        let (mut places, mut since) = (best.1.clone(), 0);
        for sweep in 0..SWEEPS {
            let before = sweep % 2 == 0;
            self.sweep(before).for_each(|layer| wires.reorder(&mut places, layer, before));
            let crossings = wires.crossings(&places);
            since = if crossings < best.0 { 0 } else { since + 1 };
            if crossings < best.0 {
                best = (crossings, places.clone());
            } else if since == IN_VAIN {
                break;
            }
        }
        self.arrange(&best.1);
    }

    /// The layers from the second on, or from the last but one back.
    fn sweep(&self, before: bool) -> impl Iterator<Item = usize> + use<> {
        let count = self.cells.len();
        let (forth, back) = if before { (1..count, 0..0) } else { (0..0, 0..count.saturating_sub(1)) };
        forth.chain(back.rev())
    }

    /// Gives each cell its place.
    fn arrange(&mut self, places: &Places) {
        for (cells, places) in self.cells.iter_mut().zip(places) {
            let mut arranged = cells.clone();
            cells.iter().zip(places).for_each(|(cell, place)| arranged[*place] = *cell);
            *cells = arranged;
        }
        for (layer, at) in self.lines.iter_mut().flat_map(|line| &mut line.cells) {
            *at = places[*layer][*at];
        }
    }

    /// Finds how far down each cell stands.
    fn place(&mut self, room: f64, bend_room: f64) {
        let wants = |cell: &Cell| if matches!(cell, Cell::Node(_)) { room } else { bend_room };
        let offsets: Vec<Vec<f64>> = self
            .cells
            .iter()
            .map(|cells| {
                let mut at = 0.0;
                let mut offsets = Vec::with_capacity(cells.len());
                for (number, cell) in cells.iter().enumerate() {
                    if number > 0 {
                        at += f64::midpoint(wants(&cells[number - 1]), wants(cell));
                    }
                    offsets.push(at);
                }
                offsets
            })
            .collect();
        self.heights.clone_from(&offsets);
        let wires = NeedGraph::of(self);
        for sweep in 0..SWEEPS {
            let before = sweep % 2 == 0;
            for layer in self.sweep(before) {
                let other = &self.heights[if before { layer - 1 } else { layer + 1 }];
                let wanted = |at: usize| match wires.joined(layer, before, at) {
                    [] => self.heights[layer][at],
                    joined => joined.iter().map(|there| other[*there]).sum::<f64>() / joined.len() as f64,
                };
                let wanted: Vec<f64> = (0..self.cells[layer].len()).map(wanted).collect();
                self.heights[layer] = apart(&wanted, &offsets[layer]);
            }
        }
        let top = self.heights.iter().flatten().copied().fold(f64::INFINITY, f64::min);
        self.heights.iter_mut().flatten().for_each(|height| *height -= top);
    }
}

/// The place of each cell in each layer, by the number that it has there.
type Places = Vec<Vec<usize>>;

/// What is joined to what in neighbouring layers, by the numbers of cells.
struct NeedGraph {
    /// For each layer but the last, the cells in it and the next that are joined.
    pairs: Vec<Vec<(usize, usize)>>,
    /// For each layer what its cells are joined to in the one before, and in the one behind.
    before: Vec<Lists>,
    behind: Vec<Lists>,
}

/// A list for each cell of a layer, one after the other.
struct Lists {
    ends: Vec<usize>,
    cells: Vec<usize>,
}

impl NeedGraph {
    fn of(layers: &Layers) -> Self {
        let sizes: Vec<usize> = layers.cells.iter().map(Vec::len).collect();
        let mut pairs = vec![Vec::new(); sizes.len()];
        for line in &layers.lines {
            line.cells.windows(2).for_each(|pair| pairs[pair[0].0].push((pair[0].1, pair[1].1)));
        }
        let nothing = Vec::new();
        let lists = |layer: usize, before: bool| {
            let pairs =
                if before { layer.checked_sub(1).map_or(&nothing, |at| &pairs[at]) } else { &pairs[layer] };
            Lists::of(
                sizes[layer],
                pairs.iter().map(|(left, right)| if before { (*right, *left) } else { (*left, *right) }),
            )
        };
        let [before, behind] =
            [true, false].map(|before| (0..sizes.len()).map(|layer| lists(layer, before)).collect());
        Self { before, behind, pairs }
    }

    /// What a cell is joined to in the layer before or behind.
    fn joined(&self, layer: usize, before: bool, at: usize) -> &[usize] {
        if before { self.before[layer].of_cell(at) } else { self.behind[layer].of_cell(at) }
    }

    /// Puts each cell of a layer to the middle one of those that it is joined to; what is joined to none stays.
    fn reorder(&self, places: &mut Places, layer: usize, before: bool) {
        let other = &places[if before { layer - 1 } else { layer + 1 }];
        let mut around = Vec::new();
        let median = |at: usize| {
            around.clear();
            around.extend(self.joined(layer, before, at).iter().map(|there| other[*there]));
            let middle = around.len() / 2;
            if around.is_empty() { places[layer][at] } else { *around.select_nth_unstable(middle).1 }
        };
        let medians: Vec<usize> = (0..places[layer].len()).map(median).collect();
        let mut order: Vec<usize> = (0..medians.len()).collect();
        order.sort_unstable_by_key(|at| (medians[*at], places[layer][*at]));
        order.into_iter().enumerate().for_each(|(place, at)| places[layer][at] = place);
    }

    /// How many pairs of needs cross.
    fn crossings(&self, places: &Places) -> usize {
        let between = |(layer, pairs): (usize, &Vec<(usize, usize)>)| {
            let place = |(left, right): &(usize, usize)| (places[layer][*left], places[layer + 1][*right]);
            crossing(pairs.iter().map(place).collect())
        };
        self.pairs.iter().enumerate().map(between).sum()
    }
}

impl Lists {
    fn of(count: usize, pairs: impl Iterator<Item = (usize, usize)> + Clone) -> Self {
        let mut ends = vec![0; count];
        pairs.clone().for_each(|(at, _)| ends[at] += 1);
        let mut so_far = 0;
        for end in &mut ends {
            so_far += *end;
            *end = so_far - *end;
        }
        let mut cells = vec![0; so_far];
        for (at, to) in pairs {
            cells[ends[at]] = to;
            ends[at] += 1;
        }
        Self { ends, cells }
    }

    fn of_cell(&self, at: usize) -> &[usize] {
        let from = at.checked_sub(1).map_or(0, |above| self.ends[above]);
        &self.cells[from..self.ends[at]]
    }
}

/// Each need once as a line from left to right: what would lead in a circle is turned round.
fn forward(graph: &Graph<'_>) -> Vec<Line> {
    let needed = graph.needed();
    let mut lines = Vec::new();
    // 0: not met yet, 1: on the way that is being followed, 2: done.
    let mut state = vec![0_u8; graph.nodes.len()];
    for first in 0..graph.nodes.len() {
        let mut open = vec![(first, 0)];
        while let Some((node, next)) = open.pop() {
            if next == 0 && state[node] != 0 {
                continue;
            }
            state[node] = 1;
            let Some(to) = needed[node].get(next) else {
                state[node] = 2;
                continue;
            };
            open.push((node, next + 1));
            let is_backward = state[*to] == 1;
            let ends = if is_backward { (*to, node) } else { (node, *to) };
            if *to != node {
                lines.push(Line { ends, is_backward, cells: Vec::new() });
            }
            if state[*to] == 0 {
                open.push((*to, 0));
            }
        }
    }
    lines
}

/// The longest way to each node, in steps.
fn layer_of_each(nodes: usize, lines: &[Line]) -> Vec<usize> {
    let mut layer = vec![0; nodes];
    let mut waiting = vec![0_usize; nodes];
    let mut next: Vec<Vec<usize>> = vec![Vec::new(); nodes];
    for Line { ends: (from, to), .. } in lines {
        waiting[*to] += 1;
        next[*from].push(*to);
    }
    let mut open: BTreeSet<usize> = (0..nodes).filter(|node| waiting[*node] == 0).collect();
    while let Some(node) = open.pop_first() {
        for to in &next[node] {
            layer[*to] = layer[*to].max(layer[node] + 1);
            waiting[*to] -= 1;
            if waiting[*to] == 0 {
                open.insert(*to);
            }
        }
    }
    layer
}

/// How many of these lines between two layers cross, counted with a tree of sums.
fn crossing(mut pairs: Vec<(usize, usize)>) -> usize {
    pairs.sort_unstable();
    let most = pairs.iter().map(|(_, to)| *to).max().unwrap_or(0) + 2;
    let mut sums = vec![0_usize; most + 1];
    let mut crossings = 0;
    for (seen, (_, to)) in pairs.iter().enumerate() {
        // Those before that end at or above.
        let (mut at, mut above) = (to + 1, 0);
        while at > 0 {
            above += sums[at];
            at &= at - 1;
        }
        crossings += seen - above;
        let mut at = to + 1;
        while at <= most {
            sums[at] += 1;
            at += at & at.wrapping_neg();
        }
    }
    crossings
}

/// The places nearest to the wanted ones (least squares) that keep the order and at least these distances: neighbours that want
/// to be nearer are pooled, and the pool stands at their mean.
fn apart(wanted: &[f64], offsets: &[f64]) -> Vec<f64> {
    let mut pools: Vec<(f64, usize)> = Vec::new();
    for (wanted, offset) in wanted.iter().zip(offsets) {
        pools.push((wanted - offset, 1));
        while let [.., (above, many), (below, few)] = pools.as_slice() {
            if above <= below {
                break;
            }
            let count = many + few;
            let mean = (above * *many as f64 + below * *few as f64) / count as f64;
            pools.truncate(pools.len() - 2);
            pools.push((mean, count));
        }
    }
    let places = pools.iter().flat_map(|(mean, count)| std::iter::repeat_n(*mean, *count));
    places.zip(offsets).map(|(place, offset)| place + offset).collect()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn crossings_are_those_that_a_look_at_each_pair_finds(pairs in proptest::collection::vec((0..9_usize, 0..9_usize), 0..30)) {
            let each = pairs.iter().enumerate().flat_map(|(at, one)| pairs[at + 1..].iter().map(move |other| (one, other)));
            let plain = each.filter(|(a, b)| (a.0 < b.0 && a.1 > b.1) || (a.0 > b.0 && a.1 < b.1)).count();
            prop_assert_eq!(crossing(pairs.clone()), plain);
        }

        #[test]
        fn places_keep_order_and_distance_and_lose_nothing_where_there_is_room(wanted in proptest::collection::vec(-50.0..50.0_f64, 1..20)) {
            let offsets: Vec<f64> = (0..wanted.len()).map(|at| at as f64 * 3.0).collect();
            let places = apart(&wanted, &offsets);
            prop_assert!(places.windows(2).all(|pair| pair[1] - pair[0] > 3.0 - 1e-9), "{:?}", places);
            let mean = |all: &[f64]| all.iter().sum::<f64>() / all.len() as f64;
            prop_assert!((mean(&places) - mean(&wanted)).abs() < 1e-6);
            if wanted.windows(2).all(|pair| pair[1] - pair[0] > 3.0) {
                prop_assert!(places.iter().zip(&wanted).all(|(place, wanted)| (place - wanted).abs() < 1e-9));
            }
        }
    }
}
