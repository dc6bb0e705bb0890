import { InputNumber, Modal, Radio, Switch } from "antd";
import { useTaste } from "../parts/taste";

const keys: [string, string][] = [
  ["F6, Shift-F6", "the next board, the one before; out of a terminal and an editor"],
  ["Alt-1, 2, 3", "a board"],
  ["Alt-0", "find a file, a board, what may be asked"],
  ["Ctrl-S", "save a file"],
  ["Ctrl-F, Ctrl-Alt-G", "find in a file; a line of it"],
  ["Ctrl-Shift-F", "find in a terminal"],
  ["Ctrl-click", "open beside; in a terminal, follow an address"],
  ["Ctrl-Space", "complete"],
  ["Alt-., Alt-,", "where a name is defined; what uses it"],
  ["Alt-N, Alt-O, Alt-Q", "another name, what may be done here, write the file anew; they stand at its foot, too"],
  ["Alt-P, Alt-Shift-P", "a program stops in this line; where a condition holds"],
  ["Alt-G, J, I, U", "of a program that stands: go on, over a line, into what is called, out of it"],
  ["?", "these"],
];

/** The few keys of the bench, and what each reader may have their own way. */
export function BenchKeys({ close }: { close: () => void }) {
  const [taste, like] = useTaste();
  return (
    <Modal open title="Keys, and how it looks" footer={null} onCancel={close}>
      <dl className="facts one">
        {keys.map(([k, what]) => (
          <div key={k} style={{ display: "contents" }}>
            <dt>{k}</dt>
            <dd>{what}</dd>
          </div>
        ))}
      </dl>
      <dl className="facts one">
        <dt>Colours</dt>
        <dd>
          <Radio.Group size="small" optionType="button" value={taste.scheme} onChange={(e) => like({ scheme: e.target.value as typeof taste.scheme })} options={["as the system", "light", "dark"]} />
        </dd>
        <dt>Letters</dt>
        <dd>
          <InputNumber size="small" aria-label="Size of letters, in pixels" min={9} max={28} value={taste.fontPixels} onChange={(n) => n && like({ fontPixels: n })} suffix="px" />
        </dd>
        <dt>Keys of editors</dt>
        <dd>
          <Radio.Group size="small" optionType="button" value={taste.keys} onChange={(e) => like({ keys: e.target.value as typeof taste.keys })} options={[{ value: "usual", label: "usual" }, { value: "emacs", label: "those of Emacs too" }]} />
        </dd>
        <dt>Screen reader</dt>
        <dd>
          <Switch size="small" aria-label="Terminals say what they print to a screen reader" checked={taste.reader} onChange={(reader) => like({ reader })} /> terminals say what they print
        </dd>
      </dl>
      <p className="quiet">Kept in this browser.</p>
    </Modal>
  );
}
