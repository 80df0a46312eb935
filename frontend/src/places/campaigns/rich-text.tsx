import { EditorContent, useEditor } from "@tiptap/react";
import StarterKit from "@tiptap/starter-kit";
import { useEffect, useRef, useState } from "react";
import { Dialog } from "../../parts/dialog";
import { Form } from "../../parts/form";

const MARKS: [string, string, (e: Editor) => void, (e: Editor) => boolean][] = [
  ["Bold", "font-bold", (e) => e.chain().focus().toggleBold().run(), (e) => e.isActive("bold")],
  ["Italic", "italic", (e) => e.chain().focus().toggleItalic().run(), (e) => e.isActive("italic")],
  [
    "Heading",
    "",
    (e) => e.chain().focus().toggleHeading({ level: 2 }).run(),
    (e) => e.isActive("heading", { level: 2 }),
  ],
  ["List", "", (e) => e.chain().focus().toggleBulletList().run(), (e) => e.isActive("bulletList")],
];
type Editor = NonNullable<ReturnType<typeof useEditor>>;

/** Text with its few marks; merge fields are words like the others. */
export function RichText({
  value,
  set,
  label,
  fields,
  disabled,
}: {
  value: string;
  set: (html: string) => void;
  label: string;
  fields: string[];
  disabled: boolean;
}) {
  const last = useRef(value);
  const editor = useEditor({
    extensions: [StarterKit.configure({ link: { openOnClick: false } })],
    content: value,
    editable: !disabled,
    editorProps: { attributes: { "aria-label": label, class: "rich min-h-[3em] outline-none", role: "textbox" } },
    onUpdate: ({ editor: e }) => {
      last.current = e.getHTML();
      set(last.current);
    },
  });
  useEffect(() => {
    if (editor && value !== last.current) {
      last.current = value;
      editor.commands.setContent(value, { emitUpdate: false });
    }
  }, [editor, value]);
  if (!editor) return null;
  const at = (href: string) => {
    const chain = editor.chain().focus().extendMarkRange("link");
    if (!href) chain.unsetLink().run();
    else if (editor.state.selection.empty && !editor.isActive("link"))
      chain.insertContent({ type: "text", text: href, marks: [{ type: "link", attrs: { href } }] }).run();
    else chain.setLink({ href }).run();
  };
  return (
    <div className="rounded border border-rule-strong bg-panel px-3 py-2">
      {!disabled && (
        <div className="mb-1.5 flex flex-wrap items-center gap-1 border-b border-rule pb-1.5 text-small">
          {MARKS.map(([words, look, act, on]) => (
            <button
              key={words}
              type="button"
              aria-pressed={on(editor)}
              className={`rounded px-2 py-0.5 hover:bg-wash aria-pressed:bg-cornflower-pale ${look}`}
              onClick={() => act(editor)}
            >
              {words}
            </button>
          ))}
          <LinkButton href={editor.getAttributes("link").href ?? ""} active={editor.isActive("link")} set={at} />
          <select
            className="ml-auto rounded border border-rule bg-panel px-1 py-0.5"
            aria-label={`Merge field in ${label.toLowerCase()}`}
            value=""
            onChange={(e) => e.target.value && editor.chain().focus().insertContent(filled(e.target.value)).run()}
          >
            <option value="">Merge field…</option>
            {fields.map((f) => (
              <option key={f}>{f}</option>
            ))}
          </select>
        </div>
      )}
      <EditorContent editor={editor} />
    </div>
  );
}

/** Where a link leads, asked in a dialog. */
function LinkButton({ href, active, set }: { href: string; active: boolean; set: (href: string) => void }) {
  const [open, setOpen] = useState(false);
  const [typed, setTyped] = useState("");
  const clean = typed.trim();
  const close = (to: string | null) => {
    setOpen(false);
    if (to !== null) window.setTimeout(() => set(to)); // once the dialog has given the focus back
  };
  return (
    <Dialog
      open={open}
      change={(o) => {
        setTyped(href || "https://");
        setOpen(o);
      }}
      trigger={
        <button
          type="button"
          aria-pressed={active}
          className="rounded px-2 py-0.5 underline hover:bg-wash aria-pressed:bg-cornflower-pale"
        >
          Link
        </button>
      }
      title={href ? "Change the link" : "Add a link"}
    >
      <Form act={() => close(clean === "https://" ? "" : clean)}>
        <label>
          <span className="label">Address: https://…, mailto:… or tel:…</span>
          <input className="field" value={typed} onChange={(e) => setTyped(e.target.value)} />
        </label>
        <div className="mt-4 flex justify-end gap-2">
          {href && (
            <button type="button" className="btn" onClick={() => close("")}>
              Remove link
            </button>
          )}
          <button type="submit" className="btn btn-main" disabled={!/^(https?:\/\/.|mailto:.|tel:.|\{\{)/i.test(clean)}>
            Set link
          </button>
        </div>
      </Form>
    </Dialog>
  );
}

/** A merge field as it is written, with a fallback where somebody may have nothing in it. */
export const filled = (field: string) =>
  field === "email" || field.endsWith("_url") || field.startsWith("agree_")
    ? `{{ ${field} }}`
    : `{{ ${field} or "${field.includes("name") ? "friend" : "…"}" }}`;
