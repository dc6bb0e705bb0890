import { useMutation, useQuery } from "@tanstack/react-query";
import { App, Button, Form, Input, InputNumber, Table, Tooltip, Typography } from "antd";
import { Ask } from "./Ask";
import { useState } from "react";
import type { Workspace } from "../api/client";
import { nothing } from "./Page";
import { ProblemNote } from "./ProblemNote";
import { exact, when } from "words/times";
import { useDone } from "./useDone";
import { addKey, door, keys as keysOf, removeKey } from "../service/tokens";
import * as say from "words/parts/Keys";

/** Where the door of SSH is. It stays the same while the service runs. */
export function useDoor() {
  return useQuery(door);
}

/** The public keys that let one in by SSH, and by which key the door is known. */
export function Keys() {
  const { modal } = App.useApp();
  const [adding, setAdding] = useState(false);
  const door = useDoor();
  const keys = useQuery(keysOf);
  const remove = useMutation({ mutationFn: removeKey, ...useDone("tokens") });
  return (
    <>
      <h2 className="below" style={{ display: "flex" }}>
        {say.keysForSsh(
          <span className="spacer" />,
          <Button size="small" onClick={() => setAdding(true)}>
            {say.addAKey()}
          </Button>,
        )}
      </h2>
      <p className="quiet">{say.noKeyIsNeeded(door.data?.address ? say.theDoorIsAt(door.data.address, <code>{door.data.fingerprint}</code>) : null, <code>{say.yardbenchSshConfigure()}</code>)}</p>
      <ProblemNote error={keys.error ?? remove.error} />
      <Table
        size="small"
        rowKey="id"
        pagination={false}
        loading={keys.isPending}
        dataSource={keys.data}
        locale={nothing(say.noKeyLetsYou())}
        columns={[
          { title: say.key(), render: (_, k) => k.comment || say.withoutAComment() },
          { title: say.fingerprint(), render: (_, k) => <code>{k.fingerprint}</code> },
          { title: say.added(), render: (_, k) => <Tooltip title={exact(k.added_at)}>{when(k.added_at)}</Tooltip> },
          { title: say.until(), render: (_, k) => <Tooltip title={exact(k.expires_at)}>{when(k.expires_at)}</Tooltip> },
          { title: say.lastUsed(), render: (_, k) => (k.last_used_at ? <Tooltip title={say.toTheNearestTen(exact(k.last_used_at))}>{when(k.last_used_at)}</Tooltip> : say.never()) },
          {
            title: "",
            align: "right",
            render: (_, k) => (
              <Button
                size="small"
                danger
                aria-label={say.removeTheKey(k.comment || k.fingerprint)}
                onClick={() =>
                  modal.confirm({
                    title: say.removeTheKeyOfComment(k.comment || k.fingerprint),
                    content: say.itLetsYouIn(),
                    okText: say.remove(),
                    onOk: () => remove.mutateAsync(k.id).catch(() => undefined),
                  })
                }
              >
                {say.remove()}
              </Button>
            ),
          },
        ]}
      />
      {adding && <AddKey onClose={() => setAdding(false)} />}
    </>
  );
}

function AddKey({ onClose }: { onClose: () => void }) {
  return (
    <Ask<{ key: string; comment?: string; days?: number }> title={say.addAPublicKey()} ok={say.addIt()} initial={{ days: 365 }} ask={(f) => addKey({ key: f.key.trim(), comment: f.comment || undefined, days: f.days ?? undefined })} changes={["tokens"]} onClose={onClose}>
      <Form.Item name="key" label={say.publicKey()} extra={say.theOneLineOf()} rules={[{ required: true, message: say.theKeyPlease() }]}>
        <Input.TextArea autoFocus rows={4} spellCheck={false} style={{ fontFamily: "monospace" }} placeholder={say.sshEd25519AaaaYou()} />
      </Form.Item>
      <Form.Item name="comment" label={say.whatItIsCalled()} extra={say.theKeysOwnComment()}>
        <Input maxLength={60} />
      </Form.Item>
      <Form.Item name="days" label={say.daysUntilItEnds()}>
        <InputNumber min={1} max={3660} />
      </Form.Item>
    </Ask>
  );
}

/** The line to type for a workspace, and the editors that open on it. */
export function SSHLine({ of: w }: { of: Workspace }) {
  const name = w.name;
  const door = useDoor();
  const [host = "", port = ""] = (door.data?.address ?? "").split(/:(?=\d+$)/);
  const words: Record<string, string> = { alias: `${name}.bench`, folder: w.folder, host, owner: w.owner, port, workspace: name };
  return (
    <>
      <Typography.Text copyable code>
        {say.sshBench(name)}
      </Typography.Text>{" "}
      <span className="quiet">
        {say.after(
          <code>{say.yardbenchSshConfigure()}</code>,
          host &&
            say.withAKeyOf(
              <Typography.Text copyable code>
                {say.sshP(port, name, host)}
              </Typography.Text>,
            ),
        )}
      </span>
      {door.data?.editors.map((e) => (
        <span key={e.name}>
          {" "}
          <a href={e.link.replace(/\{(\w+)\}/g, (_, word: string) => encodeURIComponent(words[word] ?? ""))}>{say.openIn(e.name)}</a>
        </span>
      ))}
    </>
  );
}
