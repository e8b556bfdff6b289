//! Reads the arrows between the files of the workspace.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;
use std::fs;
use std::path::{Path, PathBuf};
use syn::visit::{self, Visit};
use syn::{Attribute, Item, UseTree, Visibility};

/// The place of a file: its crate, then its modules.
pub type Module = Vec<String>;

/// One file names another.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Arrow {
    pub from: Module,
    pub to: Module,
}

impl fmt::Display for Arrow {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} -> {}", self.from.join("::"), self.to.join("::"))
    }
}

/// What stands in one file.
#[derive(Default)]
struct Source {
    /// Paths that its code names, as they are written.
    named: BTreeSet<Module>,
    /// Names that it hands on, with where they come from.
    handed_on: BTreeMap<String, Module>,
    /// Modules that are for tests alone.
    for_tests: BTreeSet<String>,
}

/// All files of all crates, without their tests.
pub struct House {
    sources: BTreeMap<Module, Source>,
    /// The folders that files are in.
    pub folders: BTreeSet<PathBuf>,
    crates: BTreeMap<String, String>,
}

impl House {
    pub fn read() -> Self {
        // Asked when it runs: where builds share their folder, a binary may have been compiled for another checkout.
        let here = std::env::var_os("CARGO_MANIFEST_DIR").expect("Cargo runs this and says where");
        let all = Path::new(&here).parent().unwrap();
        let mut house = Self { sources: BTreeMap::new(), folders: BTreeSet::new(), crates: BTreeMap::new() };
        for folder in fs::read_dir(all).unwrap().map(|f| f.unwrap().path()) {
            let name = folder.file_name().unwrap().to_str().unwrap().to_string();
            house.crates.insert(format!("moorage_{name}"), name.clone());
            house.read_folder(&folder.join("src"), &[name]);
        }
        let tests: Vec<Module> =
            house.sources.iter().flat_map(|(at, s)| s.for_tests.iter().map(|t| child(at, t))).collect();
        house.sources.retain(|at, _| !tests.iter().any(|test| at.starts_with(test)));
        assert!(house.sources.len() > 100, "the sources were not found");
        house
    }

    fn read_folder(&mut self, folder: &Path, at: &[String]) {
        let mut paths: Vec<PathBuf> = fs::read_dir(folder).unwrap().map(|f| f.unwrap().path()).collect();
        paths.sort();
        self.folders.insert(folder.to_path_buf());
        for path in paths {
            let stem = path.file_stem().unwrap().to_str().unwrap().to_string();
            if path.is_dir() {
                self.read_folder(&path, &child(at, &stem));
            } else if path.extension().is_some_and(|e| e == "rs") {
                let is_roof = ["lib", "main", "mod"].contains(&stem.as_str());
                let module = if is_roof { at.to_vec() } else { child(at, &stem) };
                let text = fs::read_to_string(&path).unwrap();
                let file = syn::parse_file(&text).unwrap_or_else(|e| panic!("{}: {e}", path.display()));
                let mut source = Source::default();
                source.visit_file(&file);
                self.sources.insert(module, source);
            }
        }
    }

    pub fn modules(&self) -> impl Iterator<Item = &Module> {
        self.sources.keys()
    }

    pub fn has_module(&self, module: &[&str]) -> bool {
        self.sources.contains_key(&module.iter().map(ToString::to_string).collect::<Module>())
    }

    pub fn arrows(&self) -> impl Iterator<Item = Arrow> {
        let of = |(from, source): (&Module, &Source)| -> BTreeSet<Arrow> {
            let to = source.named.iter().filter_map(|path| self.defined_in(from, path, 0));
            to.filter(|to| to != from).map(|to| Arrow { from: from.clone(), to }).collect()
        };
        self.sources.iter().flat_map(of).collect::<Vec<_>>().into_iter()
    }

    /// The file that defines what a path in a file means; none if it is not of this workspace.
    fn defined_in(&self, from: &[String], path: &[String], depth: usize) -> Option<Module> {
        let (first, rest) = path.split_first()?;
        let mut full: Module = match first.as_str() {
            "crate" => vec![from[0].clone()],
            "self" => from.to_vec(),
            "super" => from[..from.len() - 1].to_vec(),
            name => match self.crates.get(name) {
                Some(folder) => vec![folder.clone()],
                None if self.sources.contains_key(&child(from, name)) => child(from, name),
                None => return None,
            },
        };
        for part in rest {
            if part == "super" {
                full.pop();
            } else {
                full.push(part.clone());
            }
        }
        let known = (1..=full.len()).rev().find(|&n| self.sources.contains_key(&full[..n]))?;
        let module = full[..known].to_vec();
        match full.get(known).and_then(|name| self.sources[&module].handed_on.get(name)) {
            Some(path) if depth < 8 => self.defined_in(&module, path, depth + 1).or(Some(module)),
            _ => Some(module),
        }
    }

    /// The arrows of each circle of files within one crate.
    pub fn circles(&self) -> Vec<Vec<Arrow>> {
        let arrows: Vec<Arrow> = self.arrows().filter(|a| a.from[0] == a.to[0]).collect();
        let mut next: BTreeMap<&Module, Vec<&Module>> = BTreeMap::new();
        arrows.iter().for_each(|a| next.entry(&a.from).or_default().push(&a.to));
        let reach = |from: &Module| {
            let mut seen = BTreeSet::new();
            let mut left = vec![from];
            while let Some(at) = left.pop() {
                left.extend(
                    next.get(at).into_iter().flatten().copied().filter(|to| seen.insert((*to).clone())),
                );
            }
            seen
        };
        let reached: BTreeMap<&Module, BTreeSet<Module>> = next.keys().map(|m| (*m, reach(m))).collect();
        let tied = |a: &Module, b: &Module| {
            reached.get(a).is_some_and(|r| r.contains(b)) && reached.get(b).is_some_and(|r| r.contains(a))
        };
        let mut circles: Vec<Vec<Arrow>> = Vec::new();
        for arrow in arrows.iter().filter(|a| tied(&a.from, &a.to)) {
            match circles.iter_mut().find(|c| tied(&c[0].from, &arrow.from)) {
                Some(circle) => circle.push(arrow.clone()),
                None => circles.push(vec![arrow.clone()]),
            }
        }
        circles
    }
}

fn child(at: &[String], name: &str) -> Module {
    at.iter().cloned().chain([name.to_string()]).collect()
}

fn is_for_tests(attributes: &[Attribute]) -> bool {
    attributes.iter().any(|a| {
        a.path().is_ident("cfg") && a.parse_args::<syn::Path>().is_ok_and(|path| path.is_ident("test"))
    })
}

/// The paths of a `use`, each with the name under which it is known from then on.
fn leaves(tree: &UseTree, before: &[String], found: &mut Vec<(String, Module)>) {
    match tree {
        UseTree::Path(path) => leaves(&path.tree, &child(before, &path.ident.to_string()), found),
        UseTree::Group(group) => group.items.iter().for_each(|item| leaves(item, before, found)),
        UseTree::Name(name) if name.ident == "self" => {
            found.push((before.last().cloned().unwrap_or_default(), before.to_vec()));
        }
        UseTree::Name(name) => found.push((name.ident.to_string(), child(before, &name.ident.to_string()))),
        UseTree::Rename(name) => {
            found.push((name.rename.to_string(), child(before, &name.ident.to_string())))
        }
        UseTree::Glob(_) => found.push(("*".into(), before.to_vec())),
    }
}

impl<'ast> Visit<'ast> for Source {
    fn visit_item(&mut self, item: &'ast Item) {
        match item {
            Item::Mod(module) if is_for_tests(&module.attrs) => {
                self.for_tests.insert(module.ident.to_string());
            }
            Item::Fn(item) if is_for_tests(&item.attrs) => {}
            Item::Impl(item) if is_for_tests(&item.attrs) => {}
            Item::Use(item) if is_for_tests(&item.attrs) => {}
            Item::Use(item) => {
                let mut found = Vec::new();
                leaves(&item.tree, &[], &mut found);
                for (name, path) in found {
                    if !matches!(item.vis, Visibility::Inherited) {
                        self.handed_on.insert(name, path.clone());
                    }
                    self.named.insert(path);
                }
            }
            other => visit::visit_item(self, other),
        }
    }

    fn visit_path(&mut self, path: &'ast syn::Path) {
        let parts: Module = path.segments.iter().map(|s| s.ident.to_string()).collect();
        if parts.len() > 1 {
            self.named.insert(parts);
        }
        visit::visit_path(self, path);
    }

    /// What stands between a macro's brackets is not parsed; paths in it are found by their signs.
    fn visit_macro(&mut self, item: &'ast syn::Macro) {
        let text = item.tokens.to_string().replace(" :: ", "::");
        let words = text.split(|c: char| !(c.is_alphanumeric() || "_:".contains(c)));
        let paths = words.filter(|w| w.starts_with("crate::") || w.starts_with("super::"));
        self.named.extend(paths.map(|p| p.split("::").map(Into::into).collect::<Module>()));
    }
}
