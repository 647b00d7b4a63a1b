//! The text format of Prometheus, for a collector that reads files: gauges with their samples.

use std::fmt::Write;

/// A file of metrics that grows.
#[derive(Debug, Default)]
pub struct Metrics {
    text: String,
}

impl Metrics {
    /// A gauge with its samples, each with the labels that tell it from the others.
    pub fn gauge<'l>(
        &mut self,
        name: &str,
        help: &str,
        samples: impl IntoIterator<Item = (Vec<(&'static str, &'l str)>, i64)>,
    ) {
        let _ = writeln!(self.text, "# HELP brightharbor_{name} {help}\n# TYPE brightharbor_{name} gauge");
        for (labels, value) in samples {
            let labels: Vec<String> = labels.iter().map(|(key, text)| format!("{key}=\"{}\"", escaped(text))).collect();
            let labels = if labels.is_empty() { String::new() } else { format!("{{{}}}", labels.join(",")) };
            let _ = writeln!(self.text, "brightharbor_{name}{labels} {value}");
        }
    }

    /// One number for all.
    pub fn single(&mut self, name: &str, help: &str, value: i64) {
        self.gauge(name, help, [(vec![], value)]);
    }

    pub fn into_text(self) -> String {
        self.text
    }
}

fn escaped(text: &str) -> String {
    text.replace('\\', "\\\\").replace('"', "\\\"").replace('\n', "\\n")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn samples_stand_below_what_they_are_of() {
        let mut metrics = Metrics::default();
        metrics.gauge("links", "By state.", [(vec![("link", "lands"), ("state", "a\"b\\c\n")], 2)]);
        metrics.single("tend_exit", "The last one.", 0);
        let wanted = "# HELP brightharbor_links By state.\n# TYPE brightharbor_links gauge\n\
                      brightharbor_links{link=\"lands\",state=\"a\\\"b\\\\c\\n\"} 2\n\
                      # HELP brightharbor_tend_exit The last one.\n# TYPE brightharbor_tend_exit gauge\n\
                      brightharbor_tend_exit 0\n";
        assert_eq!(metrics.into_text(), wanted);
    }
}
