import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { get, type M, post } from "../../api/client";
import { keys } from "../../api/keys";
import { count } from "../../logic/format";
import { useAction } from "../../parts/action";
import { Ask } from "../../parts/ask";
import { Close, Dialog } from "../../parts/dialog";
import { Form } from "../../parts/form";
import { Choice, TextField } from "../../parts/labelled";
import { May } from "../../parts/may";
import { Table } from "../../parts/table";
import { offerUndo } from "../../parts/undo-offer";
import { Sentence, Waiting } from "../../parts/waiting";

type Field = M["OwnField"];
type Type = Field["type"];
const TYPES: [Type, string][] = [
  ["text", "Text"],
  ["number", "Number"],
  ["date", "Date"],
];
const nameOf = (type: Type) => TYPES.find(([t]) => t === type)?.[1] ?? type;

function useRefresh() {
  const client = useQueryClient();
  return () =>
    Promise.all(
      [keys.fields(), ["segments"], ["subscribers"]].map((queryKey) => client.invalidateQueries({ queryKey })),
    );
}

/** The fields that imports have brought: what each holds, where it is used; its name and type changed, or its end. */
export function FieldsSection() {
  const q = useQuery({ queryKey: keys.fields(), queryFn: () => get("/fields") });
  if (!q.data) return <Waiting error={q.error} what="the fields" />;
  return (
    <>
      <h2 className="mb-1">Fields</h2>
      <p className="mb-2 text-ink-2">
        What you know of subscribers beside name, language, country and time zone. Segments, merge fields and sequences
        use them; imports and people's pages fill them.
      </p>
      {q.data.fields.length === 0 ? (
        <p className="mb-3">No fields yet: a column of an import becomes one, or add one here.</p>
      ) : (
        <Table label="Fields">
          <thead>
            <tr>
              <th scope="col">Field</th>
              <th scope="col">Type</th>
              <th scope="col" className="n">
                Subscribers
              </th>
              <th scope="col">Used by</th>
              <th scope="col">
                <span className="sr-only">Actions</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {q.data.fields.map((f) => (
              <Line key={f.name} of={f} />
            ))}
          </tbody>
        </Table>
      )}
      <May to="decide">
        <Add />
      </May>
    </>
  );
}

function Line({ of }: { of: Field }) {
  const [changing, setChanging] = useState(false);
  const refresh = useRefresh();
  return (
    <tr>
      <td className="max-w-[210px]">
        <span className="block truncate" title={of.name}>
          {of.name}
        </span>
        {of.examples.length > 0 && (
          <span className="block truncate text-small text-ink-2" title={of.examples.join(", ")}>
            {of.examples.join(", ")}
          </span>
        )}
      </td>
      <td>{nameOf(of.type)}</td>
      <td className="n">{count(of.people)}</td>
      <td className="max-w-[220px] text-small">
        {of.used_by.length > 0 ? of.used_by.join(", ") : <span className="text-ink-2">nothing</span>}
      </td>
      <td className="n">
        <May to="decide">
          <span className="flex flex-wrap justify-end gap-x-2">
            <button type="button" className="btn btn-bare" onClick={() => setChanging(true)}>
              Change<span className="sr-only"> {of.name}</span>
            </button>
            <Ask
              trigger={
                <button type="button" className="btn btn-bare text-poppy!">
                  Delete<span className="sr-only"> {of.name}</span>
                </button>
              }
              title={`Delete the field “${of.name}”?`}
              words="Delete field"
              grave
              act={async () => {
                const done = await post("/fields/delete", { name: of.name });
                offerUndo({
                  words: `“${of.name}” deleted.`,
                  undo: async () => {
                    await post(`/activity/${done.id}/undo`);
                    await refresh();
                  },
                });
                await refresh();
              }}
            >
              <p>
                {of.people === 0
                  ? "No subscriber has a value in it."
                  : `${count(of.people)} subscribers lose their value in it. You can undo this in the activity log.`}
              </p>
            </Ask>
          </span>
        </May>
        {changing && <Change of={of} close={() => setChanging(false)} />}
      </td>
    </tr>
  );
}

function Change({ of, close }: { of: Field; close: () => void }) {
  const [name, setName] = useState(of.name);
  const [type, setType] = useState<Type>(of.type);
  const [style, setStyle] = useState("");
  const { run, busy, error } = useAction();
  const refresh = useRefresh();
  const trial = useQuery({
    queryKey: keys.fieldTrial(of.name, type, style),
    queryFn: () => post("/fields/try-type", { name: of.name, type, style }),
    enabled: type !== of.type && type !== "text",
  });
  const tried = type !== of.type && type !== "text" ? trial.data : undefined;
  return (
    <Dialog open change={(open) => !open && close()} title={`Change the field “${of.name}”`}>
      <Form
        className="space-y-3 text-left"
        act={() =>
          run(async () => {
            const called = name.trim().replace(/\s+/g, " ");
            if (called !== of.name) await post("/fields/rename", { name: of.name, to: called }); // first: it may be refused
            if (type !== of.type) {
              const done = await post("/fields/type", { name: called, type, style: tried?.style ?? "" });
              offerUndo({
                words: `“${called}” is a ${nameOf(type).toLowerCase()} field now.`,
                undo: async () => {
                  await post(`/activity/${done.id}/undo`);
                  await refresh();
                },
              });
            }
            await refresh();
          }).then((ok) => ok && close())
        }
      >
        <TextField label="Name" value={name} set={setName} />
        {name.trim() !== of.name && of.used_by.length > 0 && (
          <p className="text-small text-ink-2">Follows the new name: {of.used_by.join(", ")}.</p>
        )}
        <Choice label="Type" value={type} set={setType} of={TYPES} />
        {type !== of.type && type === "text" && <p className="text-small text-ink-2">All values stay as written.</p>}
        {trial.isFetching && !tried && <p className="text-small text-ink-2">Reading the values…</p>}
        {tried && <Tried of={tried} type={type} setStyle={setStyle} />}
        <Sentence error={error ?? trial.error} />
        <div className="flex justify-end gap-2 pt-1">
          <Close>Cancel</Close>
          <button
            type="submit"
            className="btn btn-main"
            disabled={
              busy || (type === of.type && name.trim() === of.name) || (type !== "text" && type !== of.type && !tried)
            }
          >
            {busy ? "Saving…" : "Save"}
          </button>
        </div>
      </Form>
    </Dialog>
  );
}

/** What a type makes of the values there are. */
function Tried({ of, type, setStyle }: { of: M["FieldTrial"]; type: Type; setStyle: (style: string) => void }) {
  const styles = Object.entries(of.styles);
  return (
    <div className="space-y-2 text-small">
      {styles.length > 0 && of.values > 0 && (
        <Choice
          label="Dates are written like"
          value={of.style}
          set={setStyle}
          of={styles.map(([style, example]) => [style, `${example} (${style})`] as const)}
        />
      )}
      <p>
        {of.values === 0
          ? "No subscriber has a value yet."
          : `${count(of.values - of.unfit)} of ${count(of.values)} values are ${type}s${
              of.rewritten > 0
                ? `; ${count(of.rewritten)} will be written ${type === "date" ? "as YYYY-MM-DD" : "with a decimal point"}`
                : ""
            }.`}
      </p>
      {of.unfit > 0 && (
        <p>
          {count(of.unfit)} stay as written and match no rule that compares {type}s:{" "}
          {of.examples.map((e) => `“${e}”`).join(", ")}
          {of.unfit > of.examples.length && " …"}
        </p>
      )}
    </div>
  );
}

function Add() {
  const [name, setName] = useState("");
  const [type, setType] = useState<Type>("text");
  const { run, busy, error } = useAction(keys.fields());
  return (
    <Form
      aria-label="Add a field"
      className="mt-4"
      act={() => run(() => post("/fields", { name, type })).then((ok) => ok && setName(""))}
    >
      <div className="flex flex-wrap items-end gap-3">
        <TextField label="New field" value={name} set={setName} />
        <Choice label="Type" value={type} set={setType} of={TYPES} />
        <button type="submit" className="btn" disabled={busy || !name.trim()}>
          Add field
        </button>
      </div>
      <Sentence error={error} />
    </Form>
  );
}
