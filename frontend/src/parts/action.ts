import { type QueryKey, useMutation, useQueryClient } from "@tanstack/react-query";
import { useGuarded } from "./proving";

/** What a person does and the server carries out, one after another: run it, whether one is under way, and the sentence
 * where the latest failed. Where the server wants the password once more, it is asked for first. What ``again`` names is
 * read anew after each, whether it went well or not. */
export function useAction(again?: QueryKey) {
  const client = useQueryClient();
  const guarded = useGuarded();
  const mutation = useMutation<unknown, Error, () => Promise<unknown>>({
    mutationFn: (act) => guarded(act),
    onSettled: () => again && client.invalidateQueries({ queryKey: again }),
  });
  return {
    /** Whether it went well; a failure is shown as ``error``. */
    run: (act: () => Promise<unknown>): Promise<boolean> =>
      mutation.mutateAsync(act).then(
        () => true,
        () => false,
      ),
    busy: mutation.isPending,
    error: mutation.error,
    forget: mutation.reset,
  };
}
