import { EditorContent, useEditor } from "@tiptap/react";
import StarterKit from "@tiptap/starter-kit";
import { useEffect, useRef } from "react";

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
  const link = () => {
    const href = window.prompt("Link address", editor.getAttributes("link").href ?? "https://");
    if (href === null) return;
    if (href.trim() && href.trim() !== "https://")
      editor.chain().focus().extendMarkRange("link").setLink({ href: href.trim() }).run();
    else editor.chain().focus().extendMarkRange("link").unsetLink().run();
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
          <button
            type="button"
            aria-pressed={editor.isActive("link")}
            className="rounded px-2 py-0.5 underline hover:bg-wash aria-pressed:bg-cornflower-pale"
            onClick={link}
          >
            Link
          </button>
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

/** A merge field as it is written, with a fallback where somebody may have nothing in it. */
export const filled = (field: string) =>
  field === "email" || field.endsWith("_url") || field.startsWith("agree_")
    ? `{{ ${field} }}`
    : `{{ ${field} or "${field.includes("name") ? "friend" : "…"}" }}`;
