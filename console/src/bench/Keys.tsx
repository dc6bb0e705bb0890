import { InputNumber, Modal, Segmented, Switch } from "antd";
import { useTaste } from "../parts/taste";
import * as say from "words/bench/Keys";

const keys: [string, string][] = [
  ["F6, Shift-F6", say.theNextBoard()],
  ["Alt-1, 2, 3", say.aBoard()],
  ["Alt-0", say.findAFileA()],
  ["Ctrl-S", say.saveAFile()],
  ["Ctrl-F, Ctrl-Alt-G", say.findInAFile()],
  ["Ctrl-Shift-F", say.findInATerminal()],
  ["Ctrl-click", say.openBeside()],
  ["Ctrl-Space", "complete"],
  ["Alt-., Alt-,", say.whereANameIs()],
  ["Alt-N, Alt-O, Alt-Q", say.anotherName()],
  ["Alt-P, Alt-Shift-P", say.aProgramStops()],
  ["Alt-G, J, I, U", say.ofAProgramThat()],
  ["?", "these"],
];

/** The few keys of the bench, and what each reader may have their own way. */
export function BenchKeys({ close }: { close: () => void }) {
  const [taste, like] = useTaste();
  return (
    <Modal open title={say.keysAndHowIt()} footer={null} onCancel={close}>
      <dl className="facts one">
        {keys.map(([k, what]) => (
          <div key={k} style={{ display: "contents" }}>
            <dt>{k}</dt>
            <dd>{what}</dd>
          </div>
        ))}
      </dl>
      <dl className="facts one">
        <dt>{say.colours()}</dt>
        <dd>
          <Segmented<typeof taste.scheme>
            size="small"
            value={taste.scheme}
            onChange={(scheme) => like({ scheme })}
            options={[
              { value: "as the system", label: say.asTheSystem() },
              { value: "light", label: say.light() },
              { value: "dark", label: say.dark() },
            ]}
          />
        </dd>
        <dt>{say.letters()}</dt>
        <dd>
          <InputNumber size="small" aria-label={say.sizeOfLettersIn()} min={9} max={28} value={taste.fontPixels} onChange={(n) => n && like({ fontPixels: n })} suffix="px" />
        </dd>
        <dt>{say.keysOfEditors()}</dt>
        <dd>
          <Segmented<typeof taste.keys>
            size="small"
            value={taste.keys}
            onChange={(keys) => like({ keys })}
            options={[
              { value: "usual", label: say.usual() },
              { value: "emacs", label: say.thoseOfEmacsToo() },
            ]}
          />
        </dd>
        <dt>{say.screenReader()}</dt>
        <dd>{say.terminalsSayWhatTheyPrint(<Switch size="small" aria-label={say.terminalsSayWhatThey()} checked={taste.reader} onChange={(reader) => like({ reader })} />)}</dd>
      </dl>
      <p className="quiet">{say.keptInThisBrowser()}</p>
    </Modal>
  );
}
