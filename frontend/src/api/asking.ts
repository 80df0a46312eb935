import { type InvalidateOptions, type InvalidateQueryFilters, QueryClient } from "@tanstack/react-query";

/** What is known of the server. After a change of one's own nothing that was asked before it is believed: a first answer
 * that is still under way would otherwise be taken for the news. */
export class Asking extends QueryClient {
  /** Queries under way when news came: asked once more when their answer is there. */
  private readonly later = new Set<string>();

  override mount(): void {
    super.mount();
    this.getQueryCache().subscribe(({ type, query }) => {
      if (type !== "updated" || query.state.fetchStatus !== "idle" || !this.later.delete(query.queryHash)) return;
      super.invalidateQueries({ queryKey: query.queryKey, exact: true });
    });
  }

  override async invalidateQueries(filters: InvalidateQueryFilters = {}, options?: InvalidateOptions): Promise<void> {
    const early = this.getQueryCache()
      .findAll({ ...filters, fetchStatus: "fetching" })
      .filter((q) => q.state.data === undefined);
    await Promise.all(early.map((q) => q.cancel({ revert: true, silent: true })));
    return super.invalidateQueries(filters, options);
  }

  /** Something may have come meanwhile: answers under way are let come, and asked for once more after that; there is
   * never more than one question about the same thing under way. */
  lookAgain(filters: InvalidateQueryFilters): Promise<void> {
    const cache = this.getQueryCache();
    for (const q of cache.findAll({ ...filters, fetchStatus: "fetching" })) this.later.add(q.queryHash);
    return super.invalidateQueries(filters, { cancelRefetch: false });
  }
}
