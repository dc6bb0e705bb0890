import { CheckCircleFilled, ExportOutlined, MinusCircleOutlined } from "@ant-design/icons";
import { useQuery } from "@tanstack/react-query";
import { Button, Space, theme } from "antd";
import { nameOf, type Workspace } from "../api/client";
import { LookLinks } from "../parts/LookLinks";
import { Visitors } from "../parts/Ports";
import { ProblemNote } from "../parts/ProblemNote";
import { ports } from "../service/workspaces";
import type { Board } from "./boards";
import * as say from "words/bench/PortsList";

/** The ports of a workspace, each to be looked at in a board, and who else may. */
export function PortsList({ workspace: w, open }: { workspace: Workspace; open: (b: Board, beside?: boolean) => void }) {
  const { token } = theme.useToken();
  const all = useQuery(ports(nameOf(w)));
  return (
    <div className="list scrolls">
      <ProblemNote error={all.error} />
      {all.data?.length === 0 && <p className="quiet">{say.nothingListensWhatBegins()}</p>}
      <ul className="rows">
        {all.data?.map((p) => (
          <li key={p.number} data-port-row={p.number}>
            <button type="button" className="plain" onClick={(e) => open({ kind: "port", port: p.number }, e.ctrlKey || e.metaKey)}>
              <strong className="number">:{p.number}</strong> {p.label}
            </button>
            <div className="small" style={{ color: p.listening ? token.colorSuccess : undefined }}>
              {p.listening ? <CheckCircleFilled /> : <MinusCircleOutlined />} {p.listening ? `${p.process}${p.loopback ? say.onLoopbackOnly() : ""}` : say.nothingListens()}
            </div>
            <Space size={4} wrap>
              <Visitors workspace={nameOf(w)} of={p} />
              <Button size="small" type="text" icon={<ExportOutlined />} href={p.address} target="_blank" rel="noreferrer">
                {say.inATab()}
              </Button>
            </Space>
          </li>
        ))}
      </ul>
      <LookLinks workspace={nameOf(w)} ports={(all.data ?? []).map((p) => p.number)} />
    </div>
  );
}
