//! The transaction of one request: begun to find out who asks, gone on with for what they ask, so that a page waits for one connection
//! less. Where no request is answered, or one that may wait for what is still being sent, each begins its own.

use crate::Scope;
use std::cell::Cell;
use uuid::Uuid;

tokio::task_local! {
    static BEGUN: Cell<Option<Scope>>;
}

/// Answers a request in which who asks and what they ask may go by one transaction. A request that sends something is not answered so:
/// its transaction would be open for as long as it takes.
pub async fn answered<T>(answer: impl Future<Output = T>) -> T {
    BEGUN.scope(Cell::new(None), answer).await
}

/// Whether a transaction may be left for who asks next.
pub(crate) fn may_leave() -> bool {
    BEGUN.try_with(|_| ()).is_ok()
}

/// Leaves a transaction for who asks next in this request; nobody else sees it, and it ends with the request.
pub(crate) fn leave(scope: Scope) {
    let _ = BEGUN.try_with(|begun| begun.set(Some(scope)));
}

/// The transaction that was left, where it is one of this workshop.
pub(crate) fn taken(workshop: Uuid) -> Option<Scope> {
    BEGUN.try_with(Cell::take).ok().flatten().filter(|s| s.workshop() == workshop)
}

/// Ends what was left: nobody holds a connection while waiting for another, or for anything else.
pub fn let_go() {
    let _ = BEGUN.try_with(Cell::take);
}
