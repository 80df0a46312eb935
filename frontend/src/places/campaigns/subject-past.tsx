import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { get } from "../../api/client";
import { keys } from "../../api/keys";
import { count } from "../../logic/format";
import { useDelayed } from "../../parts/delayed";

const times = (n: number) => `${n.toFixed(2)}×`;

/** What the workspace's own settled mailings say of a subject's traits; nothing where too few are known. */
export function SubjectPast({ subject }: { subject: string }) {
  const settled = useDelayed(subject.trim(), 400);
  const q = useQuery({
    queryKey: keys.subjectPast(settled),
    queryFn: ({ signal }) => get(`/subject-past?subject=${encodeURIComponent(settled)}`, signal),
    enabled: settled !== "",
    placeholderData: keepPreviousData,
  });
  if (!settled || !q.data || q.data.traits.length === 0) return null;
  return (
    <ul className="mt-1 text-small text-ink-2" aria-label="Subjects of your past mailings">
      {q.data.traits.map((t) => (
        <li key={t.trait}>
          Your subjects with {t.trait}:{" "}
          {t.shown
            ? `${times(t.times)} the engagement of the others (${times(t.low)} to ${times(t.high)})`
            : `no difference shown (${times(t.low)} to ${times(t.high)} of the others)`}
          , each beside what was expected; {count(t.mailings)} and {count(t.others)} mailings.
        </li>
      ))}
    </ul>
  );
}
