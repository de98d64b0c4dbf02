//! The order in which services are told: what others need comes before them.
use crate::case::Case;
use crate::host::Protocol;

/// What decides about the order, taken from a case.
pub(super) struct Turn {
    pub(super) name: String,
    /// Names, units and addresses under which others may need it.
    answers_to: Vec<String>,
    /// What it needs.
    needs: Vec<String>,
}

impl Turn {
    pub(super) fn of(case: &Case) -> Self {
        let service = case.service;
        let mut answers_to = vec![service.name.clone()];
        answers_to.extend(service.aliases.iter().cloned());
        answers_to.extend(service.unit_name().map(str::to_owned));
        for listen in case.wanted.iter().map(|w| &w.listen) {
            match (&listen.path, listen.protocol) {
                (Some(path), _) => answers_to.push(path.clone()),
                (None, Protocol::Tcp) => answers_to.push(format!("port {}", listen.port)),
                _ => {}
            }
        }
        let mut needs = service.described.needs.clone();
        if let Some(unit) = &service.unit {
            for key in ["Requires", "BindsTo", "Requisite", "Wants", "After"] {
                needs.extend(
                    unit.values("Unit", key)
                        .iter()
                        .flat_map(|v| v.split_whitespace().map(str::to_owned).collect::<Vec<_>>()),
                );
            }
        }
        needs.extend(
            case.config.model.ports.iter().filter(|p| !p.belongs).map(|p| format!("port {}", p.port)),
        );
        Self { name: service.name.clone(), answers_to, needs }
    }

    fn needs(&self, other: &Self) -> bool {
        self.name != other.name && self.needs.iter().any(|n| other.answers_to.contains(n))
    }
}

/// Indices of the places, what is needed first; otherwise by name. Circles are cut where they are met.
pub(super) fn order(places: &[Turn]) -> Vec<usize> {
    let mut by_name: Vec<usize> = (0..places.len()).collect();
    by_name.sort_by(|a, b| places[*a].name.cmp(&places[*b].name));
    let mut done: Vec<usize> = Vec::new();
    let mut open: Vec<usize> = Vec::new();
    for at in by_name.clone() {
        visit(places, &by_name, at, &mut open, &mut done);
    }
    done
}

fn visit(places: &[Turn], by_name: &[usize], at: usize, open: &mut Vec<usize>, done: &mut Vec<usize>) {
    if done.contains(&at) || open.contains(&at) {
        return;
    }
    open.push(at);
    for other in by_name.iter().copied().filter(|o| places[at].needs(&places[*o])) {
        visit(places, by_name, other, open, done);
    }
    open.pop();
    done.push(at);
}

#[cfg(test)]
mod tests {
    use super::*;

    fn place(name: &str, answers_to: &[&str], needs: &[&str]) -> Turn {
        let owned = |l: &[&str]| l.iter().map(|s| (*s).to_owned()).collect();
        Turn { name: name.into(), answers_to: owned(answers_to), needs: owned(needs) }
    }

    #[test]
    fn what_is_needed_comes_first_and_circles_end() {
        let chain = [
            place("edge", &["edge", "port 80"], &["port 8080"]),
            place("ledger", &["ledger", "port 3306"], &[]),
            place("boarding", &["port 8080"], &["ledger"]),
        ];
        assert_eq!(
            order(&chain).iter().map(|i| chain[*i].name.as_str()).collect::<Vec<_>>(),
            ["ledger", "boarding", "edge"]
        );
        let circle = [place("a", &["a"], &["b"]), place("b", &["b"], &["a"]), place("c", &["c"], &[])];
        assert_eq!(order(&circle), [1, 0, 2]);
    }
}
