import { type InvalidateOptions, type InvalidateQueryFilters, QueryClient } from "@tanstack/react-query";

/** What is known of the server. After a change of one's own nothing that was asked before it is believed: a first answer
 * that is still under way would otherwise be taken for the news. */
export class Asking extends QueryClient {
  override async invalidateQueries(filters: InvalidateQueryFilters = {}, options?: InvalidateOptions): Promise<void> {
    const early = this.getQueryCache()
      .findAll({ ...filters, fetchStatus: "fetching" })
      .filter((q) => q.state.data === undefined);
    await Promise.all(early.map((q) => q.cancel({ revert: true, silent: true })));
    return super.invalidateQueries(filters, options);
  }

  /** Something may have come meanwhile: first answers under way are let come. */
  lookAgain(filters: InvalidateQueryFilters): Promise<void> {
    return super.invalidateQueries(filters);
  }
}
