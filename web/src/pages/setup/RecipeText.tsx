import { defaultKeymap, history, historyKeymap } from "@codemirror/commands";
import { yaml } from "@codemirror/lang-yaml";
import { HighlightStyle, syntaxHighlighting } from "@codemirror/language";
import { type Diagnostic, lintGutter, setDiagnostics } from "@codemirror/lint";
import { EditorState } from "@codemirror/state";
import { EditorView, highlightActiveLine, keymap, lineNumbers } from "@codemirror/view";
import { tags } from "@lezer/highlight";
import { useEffect, useRef } from "react";
import type { FileMistake } from "../../api/client";

const look = EditorView.theme({
  "&": { fontSize: "12.5px", backgroundColor: "var(--color-base-200)", color: "var(--color-base-content)" },
  ".cm-scroller": { maxHeight: "66vh", overflow: "auto" },
  "&.cm-focused": { outline: "1px solid var(--brass)" },
  ".cm-content": { fontFamily: "var(--font-mono)", caretColor: "var(--brass)" },
  ".cm-cursor": { borderLeftColor: "var(--brass)" },
  ".cm-gutters": { backgroundColor: "transparent", color: "var(--faint)", borderRight: "1px solid var(--hair)" },
  ".cm-activeLine, .cm-activeLineGutter": { backgroundColor: "var(--color-base-300)" },
  "&.cm-focused .cm-selectionBackground, .cm-selectionBackground": { backgroundColor: "var(--s-rendering-dim)" },
  ".cm-tooltip": { backgroundColor: "var(--color-base-300)", border: "1px solid var(--hair)" },
});

const colours = HighlightStyle.define([
  { tag: tags.propertyName, color: "var(--brass)" },
  { tag: tags.comment, color: "var(--muted)", fontStyle: "italic" },
  { tag: [tags.string, tags.special(tags.string)], color: "var(--s-text-rendering)" },
]);

interface Props {
  text: string;
  mistakes: FileMistake[];
  fixed: boolean; // may only be read
  onChange: (text: string) => void;
}

/** The text of a recipe, with its mistakes where they are. */
export default function RecipeText({ text, mistakes, fixed, onChange }: Props) {
  const place = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(null);
  const changed = useRef(onChange);
  changed.current = onChange;
  const first = useRef(text);
  useEffect(() => {
    if (!place.current) {
      return;
    }
    // In a shadow root it brings its styles as sheets, which the service's policy lets in.
    const root = place.current.shadowRoot ?? place.current.attachShadow({ mode: "open" });
    const made = new EditorView({
      parent: root,
      root,
      state: EditorState.create({
        doc: first.current,
        extensions: [
          lineNumbers(),
          history(),
          highlightActiveLine(),
          lintGutter(),
          yaml(),
          syntaxHighlighting(colours),
          look,
          EditorView.lineWrapping,
          keymap.of([...defaultKeymap, ...historyKeymap]),
          EditorState.readOnly.of(fixed),
          EditorView.editable.of(!fixed),
          EditorView.contentAttributes.of({ "aria-label": "Text of the recipe", tabindex: "0" }),
          EditorView.updateListener.of((update) => {
            if (update.docChanged) {
              changed.current(update.state.doc.toString());
            }
          }),
        ],
      }),
    });
    view.current = made;
    return () => made.destroy();
  }, [fixed]);
  useEffect(() => {
    const doc = view.current?.state.doc;
    if (doc && doc.toString() !== text) {
      view.current?.dispatch({ changes: { from: 0, to: doc.length, insert: text } });
    }
  }, [text]);
  useEffect(() => {
    if (view.current) {
      view.current.dispatch(setDiagnostics(view.current.state, mistakes.map(marked(view.current))));
    }
  }, [mistakes]);
  return <div ref={place} className="overflow-hidden rounded border border-hair" />;
}

/** Where a mistake is in the text. */
function marked(view: EditorView): (m: FileMistake) => Diagnostic {
  return (m) => {
    const line = view.state.doc.line(Math.min(Math.max(m.line, 1), view.state.doc.lines));
    const from = Math.min(line.from + Math.max(m.column - 1, 0), line.to);
    return { from, to: line.to, severity: "error", message: m.field ? `${m.field}: ${m.what}` : m.what };
  };
}
