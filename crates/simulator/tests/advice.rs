//! A small sample of the benches: is the weighing as sure as it may be, is the plan as good as it can be.

use baricord_core::reasoning::plan::MOVES_AHEAD;
use baricord_simulator::worlds::{examined, small_problem};
use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;

#[test]
fn the_plan_comes_close_to_the_best_course_there_is_and_never_below_it() {
    let mut rng = ChaCha8Rng::seed_from_u64(11);
    let over: Vec<f64> =
        (0..40).map(|_| small_problem(&mut rng)).map(|g| g.policy_cost(MOVES_AHEAD) / g.optimal_cost() - 1.0).collect();
    assert!(over.iter().all(|o| *o > -1e-9), "{over:?}");
    assert!(over.iter().sum::<f64>() / 40.0 < 0.01, "{over:?}");
    // Looking no further than the next replacement costs much more: the tests matter.
    let mut rng = ChaCha8Rng::seed_from_u64(11);
    let blind: Vec<f64> = (0..40).map(|_| small_problem(&mut rng)).map(|g| g.policy_cost(0) / g.optimal_cost() - 1.0).collect();
    assert!(blind.iter().sum::<f64>() / 40.0 > 0.02, "{blind:?}");
}

#[test]
fn how_sure_it_says_to_be_is_how_often_it_is_right() {
    let all: Vec<(f64, bool)> = (0..240).map(|i| examined(1_000_000 + i)).collect();
    let told = all.iter().map(|c| c.0).sum::<f64>() / 240.0;
    let right = all.iter().filter(|c| c.1).count() as f64 / 240.0;
    // Three standard errors of a share among so many.
    assert!((told - right).abs() < 0.09, "told {told:.3}, right {right:.3}");
    let sure: Vec<_> = all.iter().filter(|c| c.0 > 0.8).collect();
    let held = sure.iter().filter(|c| c.1).count();
    assert!(sure.len() > 8 && held * 4 > sure.len() * 3, "{held} of {}", sure.len());
}
