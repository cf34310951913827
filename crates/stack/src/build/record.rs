//! What was done, as the ledger has it.

use super::BuildOptions;
use crate::{
    output::LaidOutput,
    plan::{Laid, Prepared},
    report::{
        EditionWork, LEDGER_KIND, Ledger, LedgerFile, LedgerOutput, LedgerSource, LedgerTrial, OutputSummary,
    },
};
use neat_content::{Content, DigestKind, Job, Result, digest_of};

impl Prepared<'_> {
    pub(super) fn ledger(
        &self,
        laid: &Laid,
        files: Vec<LedgerFile>,
        options: &BuildOptions<'_>,
        digests: &[Option<String>],
        trials: Vec<LedgerTrial>,
        job: &Job<'_>,
    ) -> Result<Ledger> {
        let report = &self.report;
        let output = |(output, digest): (&LaidOutput, &Option<String>)| {
            let OutputSummary { form, path, size, label, boot, .. } = output.summary.clone();
            LedgerOutput { form: form.to_owned(), path, size, label, boot, sha256: digest.clone() }
        };
        let outputs: Vec<LedgerOutput> = laid.outputs.iter().zip(digests).map(output).collect();
        Ok(Ledger {
            kind: LEDGER_KIND.into(),
            version: Ledger::VERSION,
            program: options.program.into(),
            title: report.title.clone(),
            stack_sha256: digest_of(
                &Content::from_bytes(options.stack_text.as_bytes()),
                DigestKind::Sha256,
                job,
            )?,
            depot: report.depot.clone(),
            source: report.source.as_ref().map(|source| LedgerSource {
                path: source.path.clone(),
                size: source.size,
                label: source.label.clone(),
                sha256: source.sha256.clone(),
            }),
            steps: report.steps.iter().map(|step| format!("{} {}", step.action, step.subject)).collect(),
            items: report.editions_work.iter().flat_map(EditionWork::ledger_items).collect(),
            components: report.editions_work.iter().flat_map(EditionWork::ledger_components).collect(),
            files,
            remarks: report.findings.clone(),
            findings: report.findings.iter().map(|finding| finding.message.clone()).collect(),
            output: outputs.first().cloned(),
            stick: outputs.get(1).cloned(),
            answers: laid.answers.clone(),
            outputs,
            trials,
        })
    }
}
