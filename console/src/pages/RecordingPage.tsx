import { Terminal } from "@xterm/xterm";
import "@xterm/xterm/css/xterm.css";
import { useQuery } from "@tanstack/react-query";
import { Button, Segmented, Slider, Space } from "antd";
import { useEffect, useRef, useState } from "react";
import { useParams } from "react-router";
import { PageHead } from "../parts/Page";
import { ProblemNote } from "../parts/ProblemNote";
import { terminalLook } from "../parts/terminalLook";
import { exact, when } from "words/times";
import { contentOf, recording } from "../service/recordings";
import * as say from "words/pages/RecordingPage";

/** Something that happened: when, in seconds as it is shown, what, and its text. */
type Event = [number, string, string];

interface Cast {
  width: number;
  height: number;
  events: Event[];
  seconds: number;
}

/** Pauses are cut to so many seconds. */
const longestPause = 2;

/** A recording in the format asciicast, version 2; what breaks off in the middle is read up to there. */
function read(text: string): Cast {
  const lines = text.split("\n");
  const head = JSON.parse(lines[0] ?? "") as { version?: number; width?: number; height?: number };
  if (head.version !== 2 || !head.width || !head.height) throw new Error(say.thisIsNoRecording());
  const events: Event[] = [];
  let at = 0;
  let shown = 0;
  for (const line of lines.slice(1, -1)) {
    const [t, kind, body] = JSON.parse(line) as Event;
    shown += Math.min(longestPause, Math.max(0, t - at));
    at = t;
    events.push([shown, kind, kind === "m" ? `\r\n\x1b[7m ${body} \x1b[0m\r\n` : body]);
  }
  return { width: head.width, height: head.height, events, seconds: shown };
}

/** What a terminal printed, in its own time. */
export function RecordingPage() {
  const { id = "" } = useParams();
  const about = useQuery(recording(id));
  const cast = useQuery({
    queryKey: ["recordings", id, "content"],
    queryFn: async ({ signal }) => read(await contentOf(id, signal)),
    staleTime: Infinity,
  });
  const r = about.data;
  return (
    <>
      <PageHead title={r ? say.terminal(r.workspace, r.owner, r.terminal) : say.recording()} action={<Button href={`/api/v1/recordings/${id}/content`}>{say.saveTheFile()}</Button>}>
        {r && (
          <span className="quiet" title={exact(r.began_at)}>
            {say.recordedItGoesOn(when(r.began_at), r.ended_at, r.why)}
          </span>
        )}
      </PageHead>
      <ProblemNote error={about.error ?? cast.error} />
      {cast.data && <Player cast={cast.data} />}
    </>
  );
}

function Player({ cast }: { cast: Cast }) {
  const place = useRef<HTMLDivElement>(null);
  const terminal = useRef<Terminal>(null);
  const next = useRef(0); // the event that is shown next
  const [at, setAt] = useState(0);
  const [plays, setPlays] = useState(true);
  const [times, setTimes] = useState(1);
  useEffect(() => {
    const t = new Terminal({ ...terminalLook, cols: cast.width, rows: cast.height, disableStdin: true, scrollback: 10_000 });
    t.open(place.current!);
    terminal.current = t;
    next.current = 0;
    return () => t.dispose();
  }, [cast]);
  const show = (to: number) => {
    const t = terminal.current;
    if (!t) return;
    const from = next.current;
    if (from > 0 && to < (cast.events[from - 1]?.[0] ?? 0)) {
      t.reset();
      t.resize(cast.width, cast.height);
      next.current = 0;
    }
    for (let e = cast.events[next.current]; e && e[0] <= to; e = cast.events[++next.current]) {
      const [, kind, body] = e;
      if (kind === "o" || kind === "m") t.write(body);
      else if (kind === "r") {
        const [columns, rows] = body.split("x").map(Number);
        if (columns && rows && columns <= 2000 && rows <= 2000) t.resize(columns, rows);
      }
    }
  };
  const going = plays && at < cast.seconds;
  useEffect(() => {
    if (!going) return;
    let last = performance.now();
    const beat = setInterval(() => {
      const now = performance.now();
      const gone = ((now - last) / 1000) * times;
      last = now;
      setAt((a) => Math.min(cast.seconds, a + gone));
    }, 50);
    return () => clearInterval(beat);
  }, [going, times, cast]);
  useEffect(() => show(at));
  return (
    <>
      <Space style={{ width: "100%", marginBottom: 8 }} wrap>
        <Button
          onClick={() => {
            if (at >= cast.seconds) setAt(0);
            setPlays(!going);
          }}
        >
          {going ? say.holdOn() : at < cast.seconds ? say.goOn() : say.again()}
        </Button>
        <Segmented aria-label={say.howFast()} options={[1, 2, 4, 16].map((n) => ({ value: n, label: `${n}×` }))} value={times} onChange={setTimes} />
        <span className="quiet">{say.ofSWithoutLong(at.toFixed(0), cast.seconds.toFixed(0))}</span>
      </Space>
      <Slider ariaLabelForHandle={say.whereInTheRecording()} min={0} max={cast.seconds} step={0.1} value={at} onChange={setAt} tooltip={{ open: false }} />
      <div className="terminal-frame">
        <div ref={place} />
      </div>
    </>
  );
}
