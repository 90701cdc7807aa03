//! Does the analyses that wait. Any copy of the application may: jobs are rows.

use baricord_core::analysis::{self, Progress};
use baricord_core::problem::Problem;
use baricord_core::verify::verify;
use baricord_formats::read_recording;
use baricord_store::jobs::Claim;
use baricord_store::{Store, StoreError};
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

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

/// Works until it is dropped.
pub async fn run(store: Store) {
    let mut listener = None;
    loop {
        match store.claim_job().await {
            // A drive takes its time: analyses go on beside it.
            Ok(Some(claim)) if claim.drive.is_some() => {
                let store = store.clone();
                tokio::spawn(async move { one(&store, claim).await });
                continue;
            }
            Ok(Some(claim)) => {
                one(&store, claim).await;
                continue;
            }
            Ok(None) => {}
            Err(e) => tracing::warn!(error = %e, "cannot ask for jobs"),
        }
        if listener.is_none() {
            listener = store.listen().await.ok();
        }
        // Told at once by LISTEN; asked again now and then for jobs whose worker has died.
        let told = async {
            match listener.as_mut() {
                Some(l) => l.recv().await.map(|_| ()).map_err(|_| ()),
                None => std::future::pending().await,
            }
        };
        if let Ok(Err(())) = tokio::time::timeout(Duration::from_secs(3), told).await {
            listener = None;
            tokio::time::sleep(Duration::from_millis(500)).await;
        }
    }
}

/// Does one job, with a heartbeat beside it.
pub async fn one(store: &Store, claim: Claim) {
    let bridge = std::sync::Arc::new(Bridge::default());
    let beat = {
        let (store, bridge) = (store.clone(), bridge.clone());
        tokio::spawn(async move {
            loop {
                let (p, what) = bridge.now.lock().map(|n| n.clone()).unwrap_or_default();
                if let Ok(false) = store.beat(&claim, p, &what).await {
                    bridge.stop.store(true, Ordering::Relaxed);
                }
                tokio::time::sleep(Duration::from_millis(300)).await;
            }
        })
    };
    let result = match claim.drive {
        Some(drive) => crate::driving::go(store, claim, drive, &bridge.stop).await,
        None => work(store, claim, &bridge).await,
    };
    beat.abort();
    let ended = match result {
        Ok(()) => store.end_job(&claim, "done", None).await,
        Err(StoreError::Problem(p)) if p.code == "cancelled" => store.end_job(&claim, "cancelled", None).await,
        Err(e) => store.end_job(&claim, "failed", Some(&e.to_string())).await,
    };
    if let Err(e) = ended {
        tracing::error!(error = %e, "a job's end could not be kept");
    }
}

async fn work(store: &Store, claim: Claim, bridge: &std::sync::Arc<Bridge>) -> Result<(), StoreError> {
    let mut s = store.scope(claim.workshop).await?;
    let case = s.case(claim.case).await?.case;
    let mut recordings = vec![];
    for spec in &case.recordings {
        bridge.step(0.0, &format!("reading {}", spec.id));
        let samples = match s.samples(claim.case, &spec.id).await? {
            Some(x) => x,
            None => {
                // Came with a case from elsewhere: read its file once, keep its samples.
                let mut files = std::collections::HashMap::new();
                for name in [
                    Some(&spec.file),
                    spec.speed.as_ref().and_then(|r| r.file.as_ref()),
                    spec.rpm.as_ref().and_then(|r| r.file.as_ref()),
                ]
                .into_iter()
                .flatten()
                {
                    let Some(file) = s.file(claim.case, name).await? else { continue };
                    let (whole, b, told) = (file.length()?.max(1), bridge.clone(), format!("reading {}", spec.id));
                    let watch = move |done: u64| b.step(0.4 * (done as f64 / whole as f64).min(1.0), &told);
                    files.insert(name.clone(), file.watched(std::sync::Arc::new(watch)));
                }
                let spec = spec.clone();
                let read = tokio::task::spawn_blocking(move || read_recording(&spec, &|n| Ok(files.get(n).cloned())));
                let x = read.await.map_err(|e| StoreError::Broken(e.to_string()))?;
                if bridge.stop.load(Ordering::Relaxed) {
                    return Err(Problem::new("cancelled", "the reading was cancelled").into());
                }
                let id = &case.recordings[recordings.len()].id;
                bridge.step(0.4, &format!("keeping {id}"));
                s.put_samples(claim.case, id, &x).await?;
                x
            }
        };
        recordings.push((spec.clone(), samples));
    }
    s.commit().await?;
    let (b, c) = (bridge.clone(), case.clone());
    let done = tokio::task::spawn_blocking(move || -> Result<_, Problem> {
        let tracked = analysis::track(&c.vehicle, &recordings, b.as_ref())?;
        let found = analysis::read(&c.vehicle, &tracked, b.as_ref())?;
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
    s.put_analysis(claim.case, &found, &proof, &maps).await?;
    s.refresh_board(claim.case).await?;
    s.commit().await
}
