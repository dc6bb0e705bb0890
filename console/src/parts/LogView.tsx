import { useEffect, useRef, useState } from "react";
import { whileSeen } from "../service/seen";
import * as say from "words/parts/LogView";

/** What is kept on the page of a long log; the whole is in `yardbench logs`. */
const shownCharacters = 400_000;

/** A log, as it grows. */
export function LogView({ address, short }: { address: string; short?: boolean }) {
  const [text, setText] = useState("");
  const box = useRef<HTMLPreElement>(null);
  const atEnd = useRef(true);
  useEffect(() => {
    const read = async (signal: AbortSignal) => {
      let whole = "";
      const answer = await fetch(address, { signal });
      if (!answer.ok || !answer.body) throw new Error(say.theLogCannotBe(answer.status));
      const reader = answer.body.pipeThrough(new TextDecoderStream()).getReader();
      for (;;) {
        const { done, value } = await reader.read();
        if (done) return;
        whole = (whole + value).slice(-shownCharacters);
        setText(whole);
      }
    };
    return whileSeen((signal) => {
      read(signal).catch((e: unknown) => {
        if (!signal.aborted) setText((t) => `${t}\n[${String(e)}]\n`);
      });
    });
  }, [address]);
  useEffect(() => {
    if (box.current && atEnd.current) box.current.scrollTop = box.current.scrollHeight;
  }, [text]);
  return (
    <pre
      ref={box}
      className={short ? "log short" : "log"}
      tabIndex={0}
      aria-label={say.log()}
      onScroll={(e) => {
        const b = e.currentTarget;
        atEnd.current = b.scrollHeight - b.scrollTop - b.clientHeight < 24;
      }}
    >
      {text || say.nothingIsWrittenYet()}
    </pre>
  );
}
