//! Redirects as a graph: hosts in columns, from where visitors come to where they end, and the lines between. Places only;
//! drawn by the template.

use std::collections::BTreeMap;

use brightharbor_core::redirect::{Redirect, Target};
use serde::Serialize;

const ROW: f64 = 40.0;
const BOX: f64 = 28.0;
const COLUMN: f64 = 330.0;
const BOX_WIDTH: f64 = 250.0;
/// What fits into a box.
const MOST_LETTERS: usize = 34;
/// Lines beyond this are in the table alone.
const MOST_EDGES: usize = 80;
/// A way of more steps is drawn back to an earlier column.
const MOST_COLUMNS: usize = 6;

#[derive(Debug, Serialize)]
pub(super) struct Graph {
    width: f64,
    height: f64,
    nodes: Vec<Node>,
    edges: Vec<Edge>,
    /// Redirects that are not drawn.
    more: usize,
}

#[derive(Debug, Serialize)]
struct Node {
    x: f64,
    y: f64,
    width: f64,
    height: f64,
    label: String,
    /// The whole text, where the label is cut.
    title: String,
}

#[derive(Debug, Serialize)]
struct Edge {
    path: String,
    label: String,
    label_x: f64,
    label_y: f64,
}

/// `None` where there are no redirects.
pub(super) fn graph(redirects: &[&Redirect]) -> Option<Graph> {
    let drawn = &redirects[..redirects.len().min(MOST_EDGES)];
    let ends: Vec<(String, String, u16)> =
        drawn.iter().map(|one| (source_of(one), target_of(one), one.status)).collect();
    let columns = columns(&ends);
    let deepest = *columns.values().max()?;
    let mut places: BTreeMap<&str, (f64, f64)> = BTreeMap::new();
    let mut highest = 0;
    for column in 0..=deepest {
        let mut names: Vec<&str> =
            columns.iter().filter(|(_, at)| **at == column).map(|(name, _)| name.as_str()).collect();
        // Beside what leads there, so that lines cross seldom.
        let middle = |name: &str| {
            let from: Vec<f64> = ends
                .iter()
                .filter(|(_, to, _)| to == name)
                .filter_map(|(from, _, _)| places.get(from.as_str()).map(|(_, y)| *y))
                .collect();
            from.iter().sum::<f64>() / from.len().max(1) as f64
        };
        match column {
            // Those with one target stand together.
            0 => names.sort_by_key(|name| (ends.iter().find(|(from, _, _)| from == name).map(|(_, to, _)| to), *name)),
            _ => names.sort_by(|a, b| middle(a).total_cmp(&middle(b)).then(a.cmp(b))),
        }
        let mut next = 0.0_f64;
        let wanted: Vec<f64> = names.iter().map(|name| if column == 0 { 0.0 } else { middle(name) }).collect();
        for (name, wanted) in names.into_iter().zip(wanted) {
            let y = next.max(wanted);
            places.insert(name, (COLUMN * column as f64, y));
            next = y + ROW;
            highest = highest.max(next as usize);
        }
    }
    let nodes = places.iter().map(|(name, (x, y))| Node {
        x: *x,
        y: *y,
        width: BOX_WIDTH,
        height: BOX,
        label: shortened(name),
        title: (*name).to_string(),
    });
    let nodes = nodes.collect();
    let edges = ends.iter().map(|(from, to, status)| edge(places[from.as_str()], places[to.as_str()], *status));
    Some(Graph {
        width: COLUMN * deepest as f64 + BOX_WIDTH,
        height: highest as f64,
        nodes,
        edges: edges.collect(),
        more: redirects.len() - drawn.len(),
    })
}

/// Where visitors come to; that what lies below goes along, and the `www.` twin, is in the table.
fn source_of(redirect: &Redirect) -> String {
    redirect.source.to_string().trim_end_matches('/').to_string()
}

/// Where a redirect leads, in the form in which sources are written, so that one that goes on from there is found.
fn target_of(redirect: &Redirect) -> String {
    let text = match &redirect.target {
        Target::Path(path) => format!("{}{path}", redirect.source.host),
        Target::Url(url) => url.split_once("://").map_or(url.as_str(), |(_, rest)| rest).to_string(),
    };
    text.trim_end_matches('/').to_string()
}

/// The column of each end: one to the right of the farthest that leads there.
fn columns(ends: &[(String, String, u16)]) -> BTreeMap<String, usize> {
    let mut columns: BTreeMap<String, usize> = BTreeMap::new();
    for (from, to, _) in ends {
        columns.entry(from.clone()).or_default();
        columns.entry(to.clone()).or_default();
    }
    // A circle would go on for ever.
    for _ in 0..MOST_COLUMNS {
        let mut moved = false;
        for (from, to, _) in ends {
            let wanted = (columns[from] + 1).min(MOST_COLUMNS);
            if from != to && columns[to] < wanted {
                columns.insert(to.clone(), wanted);
                moved = true;
            }
        }
        if !moved {
            break;
        }
    }
    columns
}

fn edge((from_x, from_y): (f64, f64), (to_x, to_y): (f64, f64), status: u16) -> Edge {
    let (x1, y1, y2) = (from_x + BOX_WIDTH, from_y + BOX / 2.0, to_y + BOX / 2.0);
    // Back to the same column or an earlier one: around on the right.
    let (x2, bend) = if to_x > from_x { (to_x, (to_x - x1) / 2.0) } else { (to_x + BOX_WIDTH, 50.0) };
    let second = if to_x > from_x { x2 - bend } else { x2 + bend };
    Edge {
        path: format!("M{x1} {y1}C{} {y1} {second} {y2} {x2} {y2}", x1 + bend),
        label: status.to_string(),
        label_x: (x1 + x2) / 2.0,
        label_y: (y1 + y2) / 2.0 - 4.0,
    }
}

fn shortened(text: &str) -> String {
    match text.chars().count() > MOST_LETTERS {
        true => text.chars().take(MOST_LETTERS - 1).chain(['…']).collect(),
        false => text.to_string(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use brightharbor_core::redirect::Source;

    fn redirect(from: &str, to: &str) -> Redirect {
        let (source, target) = (Source::parse(from, false).unwrap(), Target::parse(to, false).unwrap());
        Redirect { source, target, status: 301, keep_path: false, with_twin: false, until: None }
    }

    #[test]
    fn a_chain_goes_from_left_to_right_and_meets_at_one_box() {
        let all = [
            redirect("old.gullrock.example", "https://gullrock.example/new"),
            redirect("gullrock.example/older", "https://gullrock.example/new"),
            redirect("gullrock.example/new", "https://elsewhere.example/"),
        ];
        let drawn = graph(&all.iter().collect::<Vec<_>>()).unwrap();
        let at = |title: &str| drawn.nodes.iter().find(|node| node.title == title).map(|node| node.x);
        assert_eq!(at("old.gullrock.example"), Some(0.0));
        assert_eq!(at("gullrock.example/older"), Some(0.0));
        assert_eq!(at("gullrock.example/new"), Some(COLUMN));
        assert_eq!(at("elsewhere.example"), Some(2.0 * COLUMN));
        assert_eq!((drawn.nodes.len(), drawn.edges.len(), drawn.more), (4, 3, 0));
        assert_eq!(drawn.width, 2.0 * COLUMN + BOX_WIDTH);
        let mut ys: Vec<f64> = drawn.nodes.iter().filter(|node| node.x == 0.0).map(|node| node.y).collect();
        ys.dedup();
        assert_eq!(ys.len(), 2, "no box lies on another");
        assert!(drawn.nodes.iter().all(|node| node.y + BOX <= drawn.height));
    }

    #[test]
    fn circles_end_long_names_are_cut_and_too_many_are_counted() {
        let circle = [
            redirect("a.example", "https://b.example/"),
            redirect("b.example", "https://a.example/"),
            redirect("c.example/x", "/x"),
        ];
        let drawn = graph(&circle.iter().collect::<Vec<_>>()).unwrap();
        assert!(drawn.width <= COLUMN * MOST_COLUMNS as f64 + BOX_WIDTH);
        let long = format!("{}.example", "harbour-".repeat(6).trim_end_matches('-'));
        let many: Vec<Redirect> =
            (0..MOST_EDGES + 5).map(|at| redirect(&format!("h{at}.example"), &format!("https://{long}/"))).collect();
        let drawn = graph(&many.iter().collect::<Vec<_>>()).unwrap();
        assert_eq!((drawn.more, drawn.edges.len()), (5, MOST_EDGES));
        let node = drawn.nodes.iter().find(|node| node.title == long).unwrap();
        assert!(node.label.ends_with('…') && node.label.chars().count() == MOST_LETTERS);
        assert!(graph(&[]).is_none());
    }
}
