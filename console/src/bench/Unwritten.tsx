import { useQuery } from "@tanstack/react-query";
import { Button, Space, Spin } from "antd";
import { useEffect, useMemo, useState } from "react";
import { bytes } from "words/amounts";
import { ProblemNote } from "../parts/ProblemNote";
import { contentAddress, read, sliceBytes, type File } from "../service/files";
import * as say from "words/bench/Unwritten";

const pictures: Record<string, string> = { png: "image/png", jpg: "image/jpeg", jpeg: "image/jpeg", gif: "image/gif", webp: "image/webp", avif: "image/avif", bmp: "image/bmp", ico: "image/x-icon" };

/** pictureOf is the media type of a picture, by its name. What can hold a program, as SVG can, is a text here. */
export const pictureOf = (path: string) => pictures[/\.(\w+)$/.exec(path)?.[1]?.toLowerCase() ?? ""];

/** A picture of a workspace. Its bytes are drawn as a picture and as nothing else. */
export function Picture({ workspace, path, tag }: { workspace: string; path: string; tag: string }) {
  const got = useQuery({ queryKey: ["files", workspace, "picture", path, tag], gcTime: 0, queryFn: async ({ signal }) => (await read(workspace, path, undefined, signal)).bytes });
  const [size, setSize] = useState<string>();
  const data = got.data;
  const shown = useMemo(() => data && URL.createObjectURL(new Blob([data as Uint8Array<ArrayBuffer>], { type: pictureOf(path) })), [data, path]);
  useEffect(() => () => (shown ? URL.revokeObjectURL(shown) : undefined), [shown]);
  if (got.error) return <ProblemNote error={got.error} />;
  if (!shown) return <Spin />;
  return (
    <figure className="picture">
      <img src={shown} alt={path} onLoad={(e) => setSize(`${e.currentTarget.naturalWidth} × ${e.currentTarget.naturalHeight}, `)} onError={() => setSize(say.itCannotBeDrawn())} />
      <figcaption className="quiet">
        {size}
        {bytes(got.data?.length ?? 0)}
      </figcaption>
    </figure>
  );
}

/** What is neither a text nor a picture can be taken away. */
export function TakeAway({ workspace, path, note }: { workspace: string; path: string; note: string }) {
  return (
    <div className="board-note">
      <p>{note}</p>
      <Button href={contentAddress(workspace, path)} download={path.split("/").pop()}>
        {say.bringItToThis()}
      </Button>
    </div>
  );
}

/** A file that is too large to be written in, slice by slice. */
export function Slices({ workspace, path, file, line }: { workspace: string; path: string; file: File; line?: number }) {
  const [at, setAt] = useState(0);
  const last = Math.max(0, Math.ceil(file.bytes / sliceBytes) - 1);
  const slice = useQuery({
    queryKey: ["files", workspace, "slice", path, file.tag, at],
    gcTime: 0,
    queryFn: async ({ signal }) => (await read(workspace, path, { from: at * sliceBytes, to: Math.min((at + 1) * sliceBytes, file.bytes) }, signal)).bytes,
    placeholderData: (old) => old,
  });
  return (
    <div className="file-board" data-file={path}>
      <ProblemNote error={slice.error} />
      <pre className="slice" tabIndex={0} aria-label={say.aPartOfIt(path)}>
        {slice.data && new TextDecoder().decode(slice.data).replaceAll("\0", "\u2400")}
      </pre>
      <Space className="board-foot" wrap>
        <span className="quiet number">{say.toOfTooLarge(bytes(at * sliceBytes), bytes(Math.min((at + 1) * sliceBytes, file.bytes)), bytes(file.bytes), line)}</span>
        <Button size="small" disabled={at === 0} onClick={() => setAt(0)}>
          {say.first()}
        </Button>
        <Button size="small" disabled={at === 0} onClick={() => setAt(at - 1)}>
          {say.before()}
        </Button>
        <Button size="small" disabled={at === last} onClick={() => setAt(at + 1)}>
          {say.after()}
        </Button>
        <Button size="small" disabled={at === last} onClick={() => setAt(last)}>
          {say.last()}
        </Button>
        <Button size="small" href={contentAddress(workspace, path)} download={path.split("/").pop()}>
          {say.bringItHere()}
        </Button>
      </Space>
    </div>
  );
}
