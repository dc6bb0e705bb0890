import { useMutation, useQuery } from "@tanstack/react-query";
import { App, Button, Form, Input, InputNumber, Table, Tooltip, Typography } from "antd";
import { Ask } from "./Ask";
import { useState } from "react";
import type { Workspace } from "../api/client";
import { nothing } from "./Page";
import { ProblemNote } from "./ProblemNote";
import { exact, when } from "./time";
import { useDone } from "./useDone";
import { addKey, door, keys as keysOf, removeKey } from "../service/tokens";

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
        Keys for SSH
        <span className="spacer" />
        <Button size="small" onClick={() => setAdding(true)}>
          Add a key
        </Button>
      </h2>
      <p className="quiet">
        {door.data?.address ? (
          <>
            The door is at {door.data.address}, known by <code>{door.data.fingerprint}</code>.{" "}
          </>
        ) : null}
        No key is needed for <code>yardbench ssh configure</code>, which has ssh and your editors find your workspaces.
      </p>
      <ProblemNote error={keys.error ?? remove.error} />
      <Table
        size="small"
        rowKey="id"
        pagination={false}
        loading={keys.isPending}
        dataSource={keys.data}
        locale={nothing("No key lets you in yet.")}
        columns={[
          { title: "Key", render: (_, k) => k.comment || "without a comment" },
          { title: "Fingerprint", render: (_, k) => <code>{k.fingerprint}</code> },
          { title: "Added", render: (_, k) => <Tooltip title={exact(k.added_at)}>{when(k.added_at)}</Tooltip> },
          { title: "Until", render: (_, k) => <Tooltip title={exact(k.expires_at)}>{when(k.expires_at)}</Tooltip> },
          { title: "Last used", render: (_, k) => (k.last_used_at ? <Tooltip title={`${exact(k.last_used_at)}, to the nearest ten minutes`}>{when(k.last_used_at)}</Tooltip> : "never") },
          {
            title: "",
            align: "right",
            render: (_, k) => (
              <Button
                size="small"
                danger
                aria-label={`Remove the key ${k.comment || k.fingerprint}`}
                onClick={() =>
                  modal.confirm({
                    title: `Remove the key ${k.comment || k.fingerprint}?`,
                    content: "It lets you in no more, and what is open by it ends.",
                    okText: "Remove",
                    onOk: () => remove.mutateAsync(k.id).catch(() => undefined),
                  })
                }
              >
                Remove
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
    <Ask<{ key: string; comment?: string; days?: number }> title="Add a public key" ok="Add it" initial={{ days: 365 }} ask={(f) => addKey({ key: f.key.trim(), comment: f.comment || undefined, days: f.days ?? undefined })} changes={["tokens"]} onClose={onClose}>
      <Form.Item name="key" label="Public key" extra="The one line of the file that ends in .pub, like ~/.ssh/id_ed25519.pub" rules={[{ required: true, message: "The key, please" }]}>
        <Input.TextArea autoFocus rows={4} spellCheck={false} style={{ fontFamily: "monospace" }} placeholder="ssh-ed25519 AAAA… you@your-machine" />
      </Form.Item>
      <Form.Item name="comment" label="What it is called" extra="The key's own comment where it is left out.">
        <Input maxLength={60} />
      </Form.Item>
      <Form.Item name="days" label="Days until it ends">
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
        {`ssh ${name}.bench`}
      </Typography.Text>{" "}
      <span className="quiet">
        after <code>yardbench ssh configure</code>
        {host && (
          <>
            ; with a key of yours:{" "}
            <Typography.Text copyable code>
              {`ssh -p ${port} ${name}@${host}`}
            </Typography.Text>
          </>
        )}
      </span>
      {door.data?.editors.map((e) => (
        <span key={e.name}>
          {" "}
          <a href={e.link.replace(/\{(\w+)\}/g, (_, word: string) => encodeURIComponent(words[word] ?? ""))}>Open in {e.name}</a>
        </span>
      ))}
    </>
  );
}
