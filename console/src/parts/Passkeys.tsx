import { useMutation, useQuery } from "@tanstack/react-query";
import { App, Button, Form, Input, Table } from "antd";
import { useState } from "react";
import { dropPasskey, hasPasskeys, makePasskey, passkeys } from "../service/passkeys";
import { doors } from "../service/session";
import { Ask } from "./Ask";
import { nothing } from "./Page";
import { ProblemNote } from "./ProblemNote";
import { useDone } from "./useDone";
import { when } from "words/times";
import * as say from "words/parts/Passkeys";

/** What somebody signs in to the console with in place of a password. */
export function Passkeys() {
  const { modal } = App.useApp();
  const ways = useQuery(doors);
  const list = useQuery(passkeys);
  const [making, setMaking] = useState(false);
  const drop = useMutation({ mutationFn: dropPasskey, ...useDone("passkeys") });
  const here = ways.data?.passkeys && hasPasskeys();
  return (
    <section aria-label={say.passkeys()}>
      <h2 className="below">
        {say.passkeys()}
        {here && (
          <Button style={{ float: "right" }} onClick={() => setMaking(true)}>
            {say.add()}
          </Button>
        )}
      </h2>
      <p className="quiet">{ways.data && !here ? say.notHere() : say.whatTheyAre()}</p>
      <ProblemNote error={list.error ?? drop.error} />
      {(here || (list.data?.length ?? 0) > 0) && (
        <Table
          size="small"
          rowKey="id"
          pagination={false}
          loading={list.isPending}
          dataSource={list.data}
          locale={nothing(say.none())}
          columns={[
            { title: say.name(), dataIndex: "name" },
            { title: say.made(), render: (_, k) => when(k.made_at) },
            { title: say.used(), render: (_, k) => (k.used_at ? when(k.used_at) : say.never()) },
            {
              title: "",
              align: "right",
              render: (_, k) => (
                <Button size="small" danger aria-label={say.removeTheOne(k.name)} onClick={() => void modal.confirm({ title: say.removeIt(k.name), okText: say.remove(), okButtonProps: { danger: true }, onOk: () => drop.mutateAsync(k.id).catch(() => undefined) })}>
                  {say.remove()}
                </Button>
              ),
            },
          ]}
        />
      )}
      {making && (
        <Ask<{ name: string; password?: string }> title={say.add()} ok={say.makeIt()} ask={makePasskey} changes={["passkeys"]} onClose={() => setMaking(false)}>
          <Form.Item name="name" label={say.name()} extra={say.after()} rules={[{ required: true, message: say.please() }]}>
            <Input autoFocus maxLength={60} />
          </Form.Item>
          <Form.Item name="password" label={say.password()} extra={say.ifYouHave()}>
            <Input.Password autoComplete="current-password" />
          </Form.Item>
        </Ask>
      )}
    </section>
  );
}
