import { useMutation, useQuery } from "@tanstack/react-query";
import { App, Button, Form, Input, Space, Table, Tag } from "antd";
import { useState } from "react";
import { luggage, putLuggage } from "../service/session";
import { Ask } from "./Ask";
import { nothing } from "./Page";
import { ProblemNote } from "./ProblemNote";
import { useDone } from "./useDone";
import { bytes } from "words/amounts";
import { when } from "words/times";
import * as say from "words/parts/Luggage";

/** What of somebody's home folder goes along from workspace to workspace. */
export function Luggage() {
  const { modal } = App.useApp();
  const is = useQuery(luggage);
  const [adding, setAdding] = useState(false);
  const put = useMutation({ mutationFn: putLuggage, ...useDone("me") });
  const paths = is.data?.paths ?? [];
  const drop = (path: string) => void modal.confirm({ title: say.leaveOutNow(path), content: say.whatIsKept(), okText: say.noMore(), okButtonProps: { danger: true }, onOk: () => put.mutateAsync(paths.filter((p) => p !== path)).catch(() => undefined) });
  const may = (is.data?.most_bytes ?? 0) > 0;
  return (
    <section aria-label={say.yourLuggage()}>
      <h2 className="below">
        {say.yourLuggage()}
        {may && (
          <Button style={{ float: "right" }} onClick={() => setAdding(true)}>
            {say.add()}
          </Button>
        )}
      </h2>
      <p className="quiet">{is.data && !may ? say.notHere() : say.whatItIs()}</p>
      <ProblemNote error={is.error ?? put.error} />
      {is.data && may && (
        <Space wrap style={{ marginBottom: 8 }}>
          {paths.length === 0 && say.none()}
          {paths.map((p) => (
            <Tag
              key={p}
              className="code"
              variant="outlined"
              closable
              closeIcon={<span aria-label={say.leaveOut(p)}>×</span>}
              onClose={(e) => {
                e.preventDefault();
                drop(p);
              }}
            >
              {p}
            </Tag>
          ))}
          {paths.length > 0 && <span className="quiet">{say.ofAtMost(bytes(is.data.bytes), bytes(is.data.most_bytes))}</span>}
        </Space>
      )}
      {may && paths.length > 0 && (
        <Table
          size="small"
          rowKey="path"
          pagination={{ pageSize: 10, hideOnSinglePage: true, showSizeChanger: false }}
          dataSource={is.data?.files}
          locale={nothing(say.nothingYet())}
          columns={[
            { title: say.file(), dataIndex: "path", className: "code" },
            { title: say.size(), align: "right", render: (_, f) => (f.changed_at ? bytes(f.bytes) : "") },
            { title: say.changed(), render: (_, f) => (f.changed_at ? when(f.changed_at) : "") },
            { title: say.takenFrom(), dataIndex: "from" },
            { title: "", render: (_, f) => f.left_out && <span className="quiet">{say.leftOut(f.left_out)}</span> },
          ]}
        />
      )}
      {adding && (
        <Ask<{ path: string }> title={say.yourLuggage()} ok={say.addIt()} ask={(f) => putLuggage([...paths, f.path.trim()])} changes={["me"]} onClose={() => setAdding(false)}>
          <Form.Item name="path" label={say.path()} extra={say.fromHome()} rules={[{ required: true, message: say.pathPlease() }]}>
            <Input autoFocus spellCheck={false} placeholder={say.likeThis()} />
          </Form.Item>
        </Ask>
      )}
    </section>
  );
}
