//! A drive under way: reads the recorder at its pace, keeps what it measures as it comes, asks for the
//! next leg until the coach has enough, and leaves the legs as runs of the case.

use crate::edits::new_edit;
use baricord_core::case::{Case, RecordingSpec, SIMULATED_RECORDER};
use baricord_core::drive::coach::{Advice, Coach, Driven, Leg};
use baricord_core::drive::recorder::RoadRecorder;
use baricord_core::edit::act::{CaseAct, Nothing};
use baricord_core::error::Problem;
use baricord_core::signal::{Channel, Quantity, Samples};
use baricord_core::units::{Hz, Seconds};
use baricord_core::vehicle::Vehicle;
use baricord_formats::write_csv;
use baricord_simulator::{StandIn, StandInSetup};
use baricord_store::analysis_tasks::TaskClaim;
use baricord_store::drives::{Drive, Piece};
use baricord_store::events::Author;
use baricord_store::{Scope, Store, StoreError};
use serde::{Deserialize, Serialize};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;
use uuid::Uuid;

/// How often the recorder is read.
const TICK: Duration = Duration::from_millis(250);
/// How long the vehicle stands between two legs, in ticks of the recorder.
const STANDS: u32 = 12;
/// No drive has more legs.
const MOST_LEGS: usize = 8;

/// Which recorder drives; a real one would stand beside the simulated one here.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "recorder")]
pub enum Setup {
    /// The simulated one.
    StandIn(StandInSetup),
}

impl Setup {
    fn open(self, v: &Vehicle) -> Result<Box<dyn RoadRecorder>, Problem> {
        match self {
            Setup::StandIn(s) => Ok(Box::new(StandIn::new(v.clone(), s)?)),
        }
    }
}

fn read<T: for<'a> Deserialize<'a>>(text: &str) -> Result<T, StoreError> {
    serde_json::from_str(text).map_err(|e| StoreError::Broken(e.to_string()))
}

fn text<T: Serialize>(x: &T) -> Result<String, StoreError> {
    serde_json::to_string(x).map_err(|e| StoreError::Broken(e.to_string()))
}

/// The legs of a drive that were asked for.
pub fn legs(d: &Drive) -> Result<Vec<Leg>, StoreError> {
    read(&d.legs)
}

/// The coach of a drive: it plans for what the workshop's knowledge and the recordings so far leave open.
pub async fn coach(s: &mut Scope, id: Uuid, symptom: &str) -> Result<Coach, StoreError> {
    let k = s.assessed(id).await?;
    let answer = k.assessment.diagnosis.symptoms.iter().find(|s| s.id == symptom);
    let ranked = answer.map(|s| s.ranked.as_slice()).unwrap_or_default();
    baricord_core::reasoning::road_plan::coach_for_symptom(k.case(), symptom, ranked)
        .ok_or_else(|| Problem::new("no-symptom", format!("{symptom} is no symptom of this case")).field("symptom").into())
}

/// What was driven so far.
pub async fn driven(s: &mut Scope, d: &Drive) -> Result<Vec<(Driven, Piece)>, StoreError> {
    let mut out = vec![];
    for (i, leg) in legs(d)?.into_iter().enumerate() {
        let piece = s.leg_so_far(d.id, i as i32).await?;
        let speed = piece.speed.iter().map(|&(t, v)| (t, 3.6 * v)).collect();
        out.push((Driven { leg, speed }, piece));
    }
    Ok(out)
}

/// What the coach says to it.
pub fn advice(coach: &Coach, driven: &[(Driven, Piece)]) -> Advice {
    coach.advise(&driven.iter().map(|d| d.0.clone()).collect::<Vec<_>>())
}

/// One leg as samples; the recorder's channel is an acceleration.
pub fn samples(rate: Hz, piece: &Piece) -> Samples {
    let channel =
        Channel { name: "az".into(), quantity: Quantity::Acceleration, unit: "m/s2".into(), data: piece.samples.clone().into() };
    Samples { rate, start: Seconds(0.0), channels: vec![channel], speed: piece.speed.clone(), ..Samples::default() }
}

/// Samples a second of the drive's recorder.
pub fn rate(d: &Drive, v: &Vehicle) -> Result<Hz, StoreError> {
    Ok(read::<Setup>(&d.setup)?.open(v)?.rate())
}

/// Takes a drive on from where it stands, to its end.
pub async fn go(store: &Store, claim: TaskClaim, drive: Uuid, stop: &AtomicBool) -> Result<(), StoreError> {
    let mut s = store.scope(claim.workshop).await?;
    let stored = s.case(claim.case).await?;
    let case = stored.case();
    let d = s.drive(claim.case, drive).await?;
    let done = match s.commit().await {
        Ok(()) => under_way(store, claim, case, &d, stop).await,
        Err(e) => Err(e),
    };
    if let Some(e) = done.as_ref().err().filter(|e| !matches!(e, StoreError::LeaseLost)) {
        let mut s = store.scope(claim.workshop).await?;
        let now = s.drive(claim.case, drive).await?;
        s.set_drive(drive, "failed", &now.legs, &now.runs, Some(&e.to_string())).await?;
        s.commit().await?;
    }
    done
}

async fn under_way(store: &Store, claim: TaskClaim, case: &Case, d: &Drive, stop: &AtomicBool) -> Result<(), StoreError> {
    if !d.is_open() {
        return Ok(());
    }
    let mut recorder = read::<Setup>(&d.setup)?.open(&case.vehicle)?;
    let mut legs = legs(d)?;
    let mut s = store.scope(claim.workshop).await?;
    let coach = coach(&mut s, claim.case, &d.symptom).await?;
    // Another copy may have driven the first part: the recorder is brought to where it was.
    let (mut piece, mut moving) = (0, false);
    for (i, leg) in legs.iter().enumerate() {
        recorder.begin(leg)?;
        piece = s.leg_pieces(d.id, i as i32).await?;
        moving = true;
        for _ in 0..piece {
            moving &= recorder.read(span(d))?.is_some();
        }
    }
    s.commit().await?;
    let mut stood = 0;
    loop {
        tokio::time::sleep(TICK).await;
        let mut s = store.scope(claim.workshop).await?;
        s.hold(&claim).await?;
        let now = s.drive(claim.case, d.id).await?;
        let ending = now.ending || stop.load(Ordering::Relaxed);
        if moving {
            match recorder.read(span(d))? {
                Some(r) => {
                    let p = Piece { samples: r.samples.into_iter().next().unwrap_or_default(), speed: r.speed };
                    s.put_drive_piece(d.id, legs.len() as i32 - 1, piece, &p).await?;
                    piece += 1;
                }
                None => {
                    (moving, stood) = (false, 0);
                    s.set_drive(d.id, "standing", &text(&legs)?, "[]", None).await?;
                }
            }
            s.commit().await?;
            continue;
        }
        stood += (d.pace.ceil() as u32).max(1);
        let sofar = driven(&mut s, &now).await?;
        // Said meanwhile that it must not be driven: what was driven is kept, and no leg begins.
        let grounded = s.case(claim.case).await?.case().is_grounded();
        let ask = advice(&coach, &sofar).ask.filter(|_| !ending && !grounded && legs.len() < MOST_LEGS);
        match ask {
            None => {
                let runs = keep(&mut s, claim.case, &now, recorder.rate(), &sofar).await?;
                // Who ends it by the button has said that it is back.
                if !now.ending {
                    back(&mut s, claim.case, &d.person).await?;
                }
                s.set_drive(d.id, "done", &now.legs, &text(&runs)?, None).await?;
                return s.commit().await;
            }
            // The driver hears what comes next while standing.
            Some(_) if stood < STANDS && !legs.is_empty() => {}
            Some(leg) => {
                recorder.begin(&leg)?;
                legs.push(leg);
                (moving, piece) = (true, 0);
                s.set_drive(d.id, "moving", &text(&legs)?, "[]", None).await?;
            }
        }
        s.commit().await?;
    }
}

fn span(d: &Drive) -> Seconds {
    Seconds(TICK.as_secs_f64() * d.pace)
}

/// The vehicle is back from a drive: it stands on the ground, and warm.
pub async fn back(s: &mut Scope, case: Uuid, person: &str) -> Result<(), StoreError> {
    s.edit_case(case, &Author::program(person), new_edit(CaseAct::Drove(Nothing {})), None).await?;
    Ok(())
}

/// Every leg becomes a run of the case.
async fn keep(s: &mut Scope, case: Uuid, d: &Drive, rate: Hz, driven: &[(Driven, Piece)]) -> Result<Vec<String>, StoreError> {
    let mut runs: Vec<String> = vec![];
    let phase = if s.case(case).await?.case().is_after_repair() { "after" } else { "before" };
    for (leg, piece) in driven.iter().map(|(d, p)| (&d.leg, p)).filter(|(_, p)| p.samples.len() > 64) {
        let read = samples(rate, piece);
        let csv = write_csv(&read, true)?;
        let run = s.new_run_id(case).await?;
        let file = format!("recordings/{}.csv", run.to_lowercase());
        let recording = RecordingSpec {
            id: run.clone(),
            symptom: Some(d.symptom.clone()),
            phase: Some(phase.into()),
            file: file.clone(),
            gear: leg.gear.clone(),
            throttle: Some(leg.throttle.clone()),
            recorder: Some(SIMULATED_RECORDER.into()),
            ..RecordingSpec::of_acceleration()
        };
        s.edit_case(case, &Author::program(&d.person), new_edit(CaseAct::AddRecording(Box::new(recording))), None).await?;
        s.remove_file(case, &file).await?;
        s.put_file(case, &file, &csv.into_bytes().into()).await?;
        s.put_samples(case, &run, &read).await?;
        runs.push(run);
    }
    if !runs.is_empty() {
        s.request_analysis(case).await?;
    }
    Ok(runs)
}
