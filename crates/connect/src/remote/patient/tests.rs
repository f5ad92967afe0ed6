//! A host in memory that loses a connection at every step, before it is taken and after.

use super::*;
use crate::runtime::runtime;
use std::collections::BTreeMap;

/// What the host has: a folder, or the bytes of a file.
pub(in crate::remote) type Things = BTreeMap<Vec<u8>, Option<Vec<u8>>>;

/// When a step loses its connection.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(in crate::remote) enum When {
    Before,
    /// Before this step and all that follow: whoever asks is dead.
    Forever,
    Within,
    /// When most of it has come.
    Late,
    After,
}

pub(in crate::remote) struct Host {
    pub(in crate::remote) things: Arc<Mutex<Things>>,
    /// Steps until the connection is lost, and when.
    pub(in crate::remote) lost: Arc<Mutex<Option<(usize, When)>>>,
}

fn broken() -> Trouble {
    Trouble::outside("the connection is lost").lost(true)
}

impl Host {
    /// When this step loses its connection, if it does.
    fn due(&self) -> Option<When> {
        let mut lost = self.lost.lock().unwrap();
        match *lost {
            Some((0, When::Forever)) => Some(When::Forever),
            Some((0, when)) => {
                *lost = None;
                Some(when)
            }
            Some((left, when)) => {
                *lost = Some((left - 1, when));
                None
            }
            None => None,
        }
    }

    /// Takes a step.
    fn take<T>(&self, step: impl FnOnce(&mut Things) -> Result<T>) -> Result<T> {
        match self.due() {
            None => step(&mut self.things.lock().unwrap()),
            Some(When::After) => {
                step(&mut self.things.lock().unwrap())?;
                Err(broken())
            }
            Some(_) => Err(broken()),
        }
    }
}

fn entry(name: &[u8], content: Option<&[u8]>) -> RemoteEntry {
    let kind = content.map_or(FoundKind::Folder, |bytes| FoundKind::File(bytes.len() as u64));
    RemoteEntry { name: name.to_vec(), kind, mode: None, mtime: None, owner: (0, 0) }
}

fn refused(what: &str) -> Trouble {
    Trouble::outside(what.to_owned())
}

fn doing<'a, T: Send + 'a>(outcome: Result<T>) -> Doing<'a, T> {
    Box::pin(async move { outcome })
}

impl Tree for Host {
    fn shown(&self) -> String {
        "memory".into()
    }
    fn connections(&self) -> usize {
        1
    }
    fn carries(&self) -> Carries {
        Carries { links: true, modes: true, times: true, exact_times: true }
    }
    fn list<'a>(&'a self, folder: &'a [u8]) -> Doing<'a, Vec<RemoteEntry>> {
        doing(self.take(|things| {
            let below = things.iter().filter_map(|(path, thing)| {
                let name = path.strip_prefix(folder)?.strip_prefix(b"/")?;
                (!name.contains(&b'/')).then(|| entry(name, thing.as_deref()))
            });
            Ok(below.collect())
        }))
    }
    fn look<'a>(&'a self, path: &'a [u8]) -> Doing<'a, Option<RemoteEntry>> {
        doing(self.take(|things| Ok(things.get(path).map(|thing| entry(b"", thing.as_deref())))))
    }
    fn fetch<'a>(&'a self, path: &'a [u8], _: u64, to: mpsc::Sender<Bytes>) -> Doing<'a, ()> {
        let due = self.due();
        let bytes = self.things.lock().unwrap()[path].clone().unwrap();
        Box::pin(async move {
            if matches!(due, Some(When::Before | When::Forever)) {
                return Err(broken());
            }
            for (number, portion) in bytes.chunks(3).enumerate() {
                if due == Some(When::Within) && number == 2 {
                    return Err(broken());
                }
                let _ = to.send(Bytes::copy_from_slice(portion)).await;
            }
            if due == Some(When::After) { Err(broken()) } else { Ok(()) }
        })
    }
    fn store<'a>(
        &'a self,
        path: &'a [u8],
        at: u64,
        mut from: mpsc::Receiver<Bytes>,
        _: Metadata,
    ) -> Doing<'a, ()> {
        let due = self.due();
        Box::pin(async move {
            if matches!(due, Some(When::Before | When::Forever)) {
                return Err(broken());
            }
            {
                let mut things = self.things.lock().unwrap();
                match things.get_mut(path) {
                    Some(_) if at == 0 => return Err(refused("it is there already")),
                    Some(Some(bytes)) if bytes.len() as u64 >= at => bytes.truncate(at as usize),
                    Some(_) => return Err(refused("there would be a hole")),
                    None => drop(things.insert(path.to_vec(), Some(Vec::new()))),
                }
            }
            let mut came = 0;
            while let Some(portion) = from.recv().await {
                came += 1;
                let mut things = self.things.lock().unwrap();
                let bytes = things.get_mut(path).unwrap().as_mut().unwrap();
                bytes.extend_from_slice(&portion);
                match due {
                    Some(When::Within) => return Err(broken()),
                    Some(When::Late) if came == 8 => {
                        // What was under way came in part.
                        let last = bytes.len() - 1;
                        bytes[last] = b'?';
                        return Err(broken());
                    }
                    _ => {}
                }
            }
            if matches!(due, Some(When::After | When::Late)) { Err(broken()) } else { Ok(()) }
        })
    }
    fn set_metadata<'a>(&'a self, _: &'a [u8], _: Metadata) -> Doing<'a, ()> {
        doing(self.take(|_| Ok(())))
    }
    fn make_folder<'a>(&'a self, path: &'a [u8]) -> Doing<'a, ()> {
        doing(self.take(|things| match things.insert(path.to_vec(), None) {
            None => Ok(()),
            Some(_) => Err(refused("it is there already")),
        }))
    }
    fn make_link<'a>(&'a self, _: &'a [u8], _: &'a [u8], _: Option<i64>) -> Doing<'a, ()> {
        doing(self.take(|_| Ok(())))
    }
    fn read_link<'a>(&'a self, _: &'a [u8]) -> Doing<'a, Vec<u8>> {
        doing(self.take(|_| Ok(Vec::new())))
    }
    fn rename<'a>(&'a self, from: &'a [u8], to: &'a [u8], _: bool) -> Doing<'a, ()> {
        doing(self.take(|things| {
            if things.get(to).is_some_and(Option::is_none) {
                return Err(refused("a folder of that name is there"));
            }
            let thing = things.remove(from).ok_or_else(|| refused("there is nothing"))?;
            things.insert(to.to_vec(), thing);
            let within = [from, b"/"].concat();
            let below: Vec<_> =
                things.keys().filter(|path| path.starts_with(&within)).cloned().collect();
            for path in below {
                let thing = things.remove(&path).flatten();
                things.insert([to, &path[from.len()..]].concat(), thing);
            }
            Ok(())
        }))
    }
    fn remove_file<'a>(&'a self, path: &'a [u8]) -> Doing<'a, ()> {
        doing(self.take(|things| {
            things.remove(path).map(drop).ok_or_else(|| refused("there is nothing"))
        }))
    }
    fn remove_folder<'a>(&'a self, path: &'a [u8]) -> Doing<'a, ()> {
        self.remove_file(path)
    }
    fn resolve<'a>(&'a self, path: &'a [u8]) -> Doing<'a, Vec<u8>> {
        doing(self.take(|_| Ok(path.to_vec())))
    }
    fn free<'a>(&'a self, _: &'a [u8]) -> Doing<'a, Option<u64>> {
        doing(self.take(|_| Ok(None)))
    }
}

/// A tree over a host that loses its connection then, and what the host has.
fn patient(lost: Option<(usize, When)>) -> (PatientTree, Arc<Mutex<Things>>) {
    let things: Arc<Mutex<Things>> = Arc::default();
    let lost = Arc::new(Mutex::new(lost));
    let (shared, again) = (things.clone(), lost.clone());
    let host =
        move || -> Arc<dyn Tree> { Arc::new(Host { things: shared.clone(), lost: again.clone() }) };
    (PatientTree::new(host(), move || Ok(host())), things)
}

const NIGHTS: &[u8] = b"night after night after night after night";

/// Works on a host; gives what was read.
async fn work(tree: &PatientTree) -> Result<Vec<u8>> {
    tree.make_folder(b"/a").await?;
    let (to, from) = mpsc::channel::<Bytes>(1);
    let sending = async move {
        for portion in NIGHTS.chunks(3) {
            let _ = to.send(Bytes::from_static(portion)).await;
        }
    };
    tokio::join!(tree.store(b"/a/f", 0, from, Metadata::default()), sending).0?;
    tree.rename(b"/a/f", b"/a/g", false).await?;
    tree.set_metadata(b"/a/g", Metadata::default()).await?;
    let (to, mut from) = mpsc::channel::<Bytes>(1);
    let mut read = Vec::new();
    let taking = async {
        while let Some(portion) = from.recv().await {
            read.extend_from_slice(&portion);
        }
    };
    tokio::join!(tree.fetch(b"/a/g", NIGHTS.len() as u64, to), taking).0?;
    tree.make_folder(b"/b").await?;
    tree.remove_folder(b"/b").await?;
    tree.rename(b"/a/g", b"/a/h", false).await?;
    Ok(read)
}

#[test]
fn a_connection_that_is_lost_at_any_step_changes_nothing_of_the_outcome() {
    let (tree, things) = patient(None);
    let read = runtime().block_on(work(&tree)).unwrap();
    let expected = things.lock().unwrap().clone();
    assert_eq!(read, NIGHTS);
    for at in 0..12 {
        for when in [When::Before, When::Within, When::Late, When::After] {
            let (tree, things) = patient(Some((at, when)));
            let told = runtime().block_on(work(&tree));
            let read = told.unwrap_or_else(|trouble| panic!("step {at}, {when:?}: {trouble}"));
            assert_eq!(read, NIGHTS, "step {at}, {when:?}");
            assert_eq!(*things.lock().unwrap(), expected, "step {at}, {when:?}");
        }
    }
}

#[test]
fn a_host_that_is_gone_for_good_is_given_up_and_waited_for_once() {
    let things: Arc<Mutex<Things>> = Arc::default();
    let tries = Arc::new(AtomicU64::new(0));
    let counted = tries.clone();
    let lost = Arc::new(Mutex::new(Some((0, When::Before))));
    let tree = PatientTree::new(Arc::new(Host { things, lost: lost.clone() }), move || {
        counted.fetch_add(1, Ordering::Relaxed);
        Err(broken())
    });
    assert!(runtime().block_on(tree.make_folder(b"/a")).unwrap_err().lost);
    assert_eq!(tries.load(Ordering::Relaxed), WAITS.len() as u64);
    *lost.lock().unwrap() = Some((0, When::Before));
    assert!(runtime().block_on(tree.remove_folder(b"/a")).unwrap_err().lost);
    assert_eq!(tries.load(Ordering::Relaxed), WAITS.len() as u64 + 1);
}
