import { VideoCameraFilled } from "@ant-design/icons";
import { FitAddon } from "@xterm/addon-fit";
import { Terminal } from "@xterm/xterm";
import "@xterm/xterm/css/xterm.css";
import { Alert, Button } from "antd";
import { useEffect, useRef, useState } from "react";
import { terminalLook } from "./terminalLook";

interface Place {
  life: string;
  at: number;
  taken: number;
}

/** How much may be typed ahead of a connection. */
const typedAhead = 1 << 20;

/** A random name for as long as this page looks. */
function typist() {
  return Array.from(crypto.getRandomValues(new Uint8Array(16)), (b) => b.toString(16).padStart(2, "0")).join("");
}

/**
 * A terminal in a workspace. It lives there, not here: leaving the page lets
 * go of it, coming back joins it where it was. When the connection breaks it
 * is made again: what was printed and typed meanwhile comes, and comes once.
 */
export function TerminalView({ workspace, label = "main" }: { workspace: string; label?: string }) {
  const place = useRef<HTMLDivElement>(null);
  const [note, setNote] = useState("");
  const [here, setHere] = useState<{ person: string; writes: boolean }[]>([]);
  const [recorded, setRecorded] = useState(false);
  const [round, setRound] = useState(0);
  useEffect(() => {
    const terminal = new Terminal({
      ...terminalLook,
      scrollback: 50_000,
    });
    const fit = new FitAddon();
    terminal.loadAddon(fit);
    terminal.open(place.current!);
    fit.fit();
    const bytes = new TextEncoder();
    const text = new TextDecoder();
    const me = typist();
    let at: Place | undefined; // of the next byte of output
    let unsaid = new Uint8Array(); // input that was not taken, as far as is known
    let over = false;
    let wait = 500;
    let again: ReturnType<typeof setTimeout> | undefined;
    let socket: WebSocket;
    let ready = false; // what is typed may be sent: it is known what of it was taken
    const send = (kind: string, body: Uint8Array) => {
      if (socket.readyState !== WebSocket.OPEN) return;
      const frame = new Uint8Array(body.length + 1);
      frame[0] = kind.charCodeAt(0);
      frame.set(body, 1);
      socket.send(frame);
    };
    const size = () => bytes.encode(JSON.stringify({ columns: terminal.cols, rows: terminal.rows }));
    const taken = (n: number) => {
      if (!at || n <= at.taken) return;
      unsaid = unsaid.slice(Math.min(unsaid.length, n - at.taken));
      at.taken = n;
    };
    const begin = () => {
      ready = true;
      if (unsaid.length > 0) send("i", unsaid);
    };
    const connect = () => {
      // What was shown is acknowledged, so that no more comes than can be shown:
      // the program that prints waits. The service lets half a megabyte come ahead.
      let shown = 0;
      const scheme = location.protocol === "https:" ? "wss" : "ws";
      const now = new WebSocket(`${scheme}://${location.host}/api/v1/workspaces/${encodeURIComponent(workspace)}/session`);
      socket = now;
      now.binaryType = "arraybuffer";
      ready = false;
      now.onopen = () => {
        const back = at ? { life: at.life, from: at.at } : {};
        now.send(JSON.stringify({ terminal: label, columns: terminal.cols, rows: terminal.rows, acknowledges: true, typist: me, ...back }));
      };
      now.onmessage = (e: MessageEvent<ArrayBuffer>) => {
        const frame = new Uint8Array(e.data);
        const body = frame.subarray(1);
        switch (String.fromCharCode(frame[0] ?? 0)) {
          case "o":
            if (at) at.at += body.length;
            else if (!ready) begin(); // a helper of an older release does not count
            terminal.write(body, () => {
              shown += body.length;
              if (shown >= 64 << 10 && now === socket) {
                send("a", bytes.encode(String(shown)));
                shown = 0;
              }
            });
            break;
          case "q": {
            const fresh = JSON.parse(text.decode(body)) as Place;
            if (at && fresh.at !== at.at) terminal.write("\r\n\x1b[7m What was printed before is not kept any more. \x1b[0m\r\n");
            if (at) taken(fresh.taken);
            at = fresh;
            wait = 500;
            setNote("");
            if (!ready) begin();
            break;
          }
          case "k":
            taken(Number(text.decode(body)));
            break;
          case "w": {
            const now = JSON.parse(text.decode(body)) as { lookers: { person: string; writes: boolean }[]; recorded: boolean };
            setHere(now.lookers);
            setRecorded(now.recorded);
            break;
          }
          case "x":
            over = true;
            setNote("The shell has ended.");
            break;
          case "p": {
            const p = JSON.parse(text.decode(body)) as { type?: string; detail?: string; next?: string };
            if (at && p.type?.endsWith(":steward-away")) break; // it may come back
            over = true;
            setNote([p.detail, p.next].filter(Boolean).join(" "));
            break;
          }
        }
      };
      now.onclose = () => {
        if (over || now !== socket) return;
        setNote("The connection is lost. What runs in the terminal goes on; it is being connected again.");
        again = setTimeout(connect, wait);
        wait = Math.min(2 * wait, 15_000);
      };
    };
    connect();
    const typed = terminal.onData((d) => {
      const p = bytes.encode(d);
      if (ready && !at) {
        send("i", p);
        return;
      }
      if (unsaid.length + p.length > typedAhead) return;
      const all = new Uint8Array(unsaid.length + p.length);
      all.set(unsaid);
      all.set(p, unsaid.length);
      unsaid = all;
      if (ready) send("i", p);
    });
    const resized = terminal.onResize(() => send("r", size()));
    const watch = new ResizeObserver(() => fit.fit());
    watch.observe(place.current!);
    terminal.focus();
    return () => {
      over = true;
      clearTimeout(again);
      watch.disconnect();
      typed.dispose();
      resized.dispose();
      socket.close();
      terminal.dispose();
    };
  }, [workspace, label, round]);
  return (
    <>
      {note && (
        <Alert
          style={{ marginBottom: 8 }}
          type="warning"
          showIcon
          title={note}
          action={
            <Button
              size="small"
              onClick={() => {
                setNote("");
                setRound(round + 1);
              }}
            >
              Open again
            </Button>
          }
        />
      )}
      {here.length > 1 && (
        <p className="quiet" role="status">
          At this terminal: {here.map((l) => l.person + (l.writes ? "" : " (looks)")).join(", ")}
        </p>
      )}
      {recorded && (
        <p role="status" className="recorded">
          <VideoCameraFilled /> What this terminal prints is recorded.
        </p>
      )}
      <div className="terminal-frame">
        <div ref={place} className="terminal" />
      </div>
    </>
  );
}
