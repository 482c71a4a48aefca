//! A drill of a plan.

use skellin_engine::{
    Cancel, DrillOptions, EngineError,
    drill::{self, DrillReport, SAMPLE, Share},
};

use super::{JobEnd, Report, Shared, jobs::Job};

pub(super) fn drill(shared: &Shared, number: u64, plan: &str, cancel: &Cancel) {
    let job = Job::new(shared, number, cancel);
    let end = job.conduct_as(&|event| event, |orchestrator| -> Result<DrillReport, EngineError> {
        let plan = orchestrator.configuration.plan_without_mistakes(plan)?;
        let store = shared.store(&plan.store)?;
        let own = plan.machine.as_deref().unwrap_or(orchestrator.machine);
        let now = orchestrator.clock.now();
        let (snapshot, before) = drill::newest(&store, (plan.series(), own), now)?;
        let options = DrillOptions {
            share: Share::Files(SAMPLE),
            scratch: None,
            before,
            as_lost: false,
            unattended: false,
        };
        orchestrator.drill(&plan.name, (&plan.store, &store), &snapshot, options)
    });
    job.carry();
    let end = end.map(Box::new).map_err(Into::into);
    shared.tell(Report::Ended { job: number, end: JobEnd::Drill(end) });
}
