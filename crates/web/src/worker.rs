//! Does the analyses that wait. Any copy of the application may: tasks are rows.

use baricord_core::analysis::{self, Progress};
use baricord_core::case::RecordingSpec;
use baricord_core::error::Problem;
use baricord_core::proof::verify::verify;
use baricord_core::signal::Samples;
use baricord_formats::read_recording;
use baricord_store::analysis_tasks::TaskClaim;
use baricord_store::{Store, StoreError};
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;
use tokio::task::JoinSet;

/// How far the work is, seen from both sides: the computation writes, the heartbeat reads.
#[derive(Default)]
struct Bridge {
    now: Mutex<(f32, String)>,
    stop: AtomicBool,
}

impl Progress for Bridge {
    fn step(&self, done: f64, what: &str) -> bool {
        if let Ok(mut n) = self.now.lock() {
            *n = (done as f32, what.to_string());
        }
        !self.stop.load(Ordering::Relaxed)
    }
}

/// Takes tasks until it is dropped. A worker that breaks is started again.
pub async fn run(store: Store) {
    loop {
        let mut worker = JoinSet::new();
        worker.spawn(take_tasks(store.clone()));
        match worker.join_next().await {
            Some(Err(e)) if e.is_panic() => tracing::error!(error = %e, "a worker broke; another takes its place"),
            _ => return,
        }
        tokio::time::sleep(Duration::from_secs(1)).await;
    }
}

async fn take_tasks(store: Store) {
    let mut listener = None;
    // Everything under way ends with this worker.
    let (mut drives, mut analyses) = (JoinSet::new(), JoinSet::new());
    loop {
        match store.claim_task().await {
            Ok(Some(claim)) => {
                let store = store.clone();
                let task = async move { one(&store, claim).await };
                // A drive takes its time: analyses go on beside it, one after the other.
                if claim.drive.is_some() {
                    drives.spawn(task);
                } else {
                    analyses.spawn(task);
                    broken(analyses.join_next().await);
                }
                while let Some(ended) = drives.try_join_next() {
                    broken(Some(ended));
                }
                continue;
            }
            Ok(None) => {}
            Err(e) => tracing::warn!(error = %e, "cannot ask for jobs"),
        }
        if listener.is_none() {
            listener = store.listen().await.ok();
        }
        // Told at once by LISTEN; asked again now and then for tasks whose worker has died.
        let report = async {
            match listener.as_mut() {
                Some(l) => l.recv().await.map(|_| ()).map_err(|_| ()),
                None => std::future::pending().await,
            }
        };
        if let Ok(Err(())) = tokio::time::timeout(Duration::from_secs(3), report).await {
            listener = None;
            tokio::time::sleep(Duration::from_millis(500)).await;
        }
    }
}

/// A task that broke has no heartbeat any more: it is taken again, four times at the most.
fn broken(ended: Option<Result<(), tokio::task::JoinError>>) {
    if let Some(Err(e)) = ended.filter(|e| e.as_ref().is_err_and(tokio::task::JoinError::is_panic)) {
        tracing::error!(error = %e, "a job broke");
    }
}

/// Does one task, with a heartbeat beside it that ends with it.
pub async fn one(store: &Store, claim: TaskClaim) {
    let bridge = std::sync::Arc::new(Bridge::default());
    let mut heartbeat = JoinSet::new();
    {
        let (store, bridge) = (store.clone(), bridge.clone());
        heartbeat.spawn(async move {
            loop {
                let (p, what) = bridge.now.lock().map(|n| n.clone()).unwrap_or_default();
                if let Ok(false) = store.heartbeat(&claim, p, &what).await {
                    bridge.stop.store(true, Ordering::Relaxed);
                }
                tokio::time::sleep(Duration::from_millis(300)).await;
            }
        });
    }
    let result = match claim.drive {
        Some(drive) => crate::drive_runner::go(store, claim, drive, &bridge.stop).await,
        None => work(store, claim, &bridge).await,
    };
    heartbeat.shutdown().await;
    let ended = match result {
        Ok(()) => store.end_task(&claim, "done", None).await,
        Err(StoreError::LeaseLost) => Ok(()),
        Err(StoreError::Problem(p)) if p.code == "cancelled" => store.end_task(&claim, "cancelled", None).await,
        Err(e) => store.end_task(&claim, "failed", Some(&e.to_string())).await,
    };
    if let Err(e) = ended {
        tracing::error!(error = %e, "a job's end could not be kept");
    }
}

/// The samples of a recording: as they are kept, else read from its file, which is done once. No transaction
/// stands open while a file is read.
async fn samples(
    store: &Store,
    claim: &TaskClaim,
    spec: &RecordingSpec,
    bridge: &std::sync::Arc<Bridge>,
) -> Result<Samples, StoreError> {
    let mut s = store.scope(claim.workshop).await?;
    if let Some(kept) = s.samples(claim.case, &spec.id).await? {
        return Ok(kept);
    }
    // Came with a case from elsewhere, or is large.
    let mut files = std::collections::HashMap::new();
    let references = [&spec.speed, &spec.rpm].into_iter().flatten().filter_map(|r| r.file.as_ref());
    for name in std::iter::once(&spec.file).chain(references) {
        let Some(file) = s.file(claim.case, name).await? else { continue };
        let (whole, b, what) = (file.length()?.max(1), bridge.clone(), format!("reading {}", spec.id));
        let watch = move |done: u64| b.step(0.4 * (done as f64 / whole as f64).min(1.0), &what);
        files.insert(name.clone(), file.watched(std::sync::Arc::new(watch)));
    }
    s.commit().await?;
    let of = spec.clone();
    let read = tokio::task::spawn_blocking(move || read_recording(&of, &|n| Ok(files.get(n).cloned())));
    let read = read.await.map_err(|e| StoreError::Broken(e.to_string()))?;
    if bridge.stop.load(Ordering::Relaxed) {
        return Err(Problem::new("cancelled", "the reading was cancelled").into());
    }
    bridge.step(0.4, &format!("keeping {}", spec.id));
    let mut s = store.scope(claim.workshop).await?;
    s.hold(claim).await?;
    s.put_samples(claim.case, &spec.id, &read).await?;
    s.commit().await?;
    Ok(read)
}

async fn work(store: &Store, claim: TaskClaim, bridge: &std::sync::Arc<Bridge>) -> Result<(), StoreError> {
    let mut s = store.scope(claim.workshop).await?;
    let (stored, knowledge) = (s.case(claim.case).await?, s.knowledge().await?);
    drop(s);
    let (version, mut case) = (stored.version, stored.case().clone());
    knowledge.overrides().complete(&mut case.vehicle);
    let mut recordings = vec![];
    for spec in &case.recordings {
        bridge.step(0.0, &format!("reading {}", spec.id));
        recordings.push((spec.clone(), samples(store, &claim, spec, bridge).await?));
    }
    let (b, c) = (bridge.clone(), case.clone());
    let done = tokio::task::spawn_blocking(move || -> Result<_, Problem> {
        let tracked = analysis::track(&c, &recordings, b.as_ref())?;
        let found = baricord_core::reasoning::attribution::read_tracked(&c, &tracked, b.as_ref())?;
        let proof = verify(&c, &tracked, &found);
        let mut maps = vec![];
        for t in tracked.iter().filter_map(|t| t.as_ref().ok()) {
            for (i, channel) in t.channels.iter().enumerate() {
                maps.push((
                    t.spec.id.clone(),
                    channel.name.clone(),
                    t.map(i, crate::stations::road::map_top(&c.vehicle, t.engine_per_wheel)),
                ));
            }
        }
        Ok((found, proof, maps))
    });
    let (found, proof, maps) = done.await.map_err(|e| StoreError::Broken(e.to_string()))??;
    let mut s = store.scope(claim.workshop).await?;
    s.hold(&claim).await?;
    s.put_analysis(claim.case, version, &found, &proof, &maps).await?;
    s.commit().await
}
