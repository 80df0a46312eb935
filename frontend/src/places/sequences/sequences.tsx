import { Page, Quiet } from "../../parts/basics";

export function SequencesPlace() {
  return (
    <Page title="Sequences" lead="Messages over days, at each person's own pace.">
      <Quiet>
        No sequences run here. This release sends campaigns in batches and resends; welcome and win-back ladders are not
        part of it yet, so nobody is inside one and no campaign leaves anybody out because of it.
      </Quiet>
    </Page>
  );
}
