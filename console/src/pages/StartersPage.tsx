import { useMutation, useQuery } from "@tanstack/react-query";
import { Button, Card, Form, Input, Modal, Select, Space, Typography } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import type { Starter } from "../api/client";
import { PageHead } from "../parts/Page";
import { ProblemNote } from "../parts/ProblemNote";
import { fill as fillIt, starters as all } from "../service/starters";
import * as say from "words/pages/StartersPage";

/** Starters: ready definitions for new projects, kept by the house. */
export function StartersPage() {
  const [chosen, setChosen] = useState<Starter>();
  const starters = useQuery(all);
  return (
    <>
      <PageHead title={say.starters()}>
        <Link to="/repositories">{say.repositories()}</Link>
      </PageHead>
      <p className="quiet">{say.readyDefinitionsForNew()}</p>
      <ProblemNote error={starters.error} />
      <div style={{ display: "grid", gridTemplateColumns: "repeat(auto-fill, minmax(320px, 1fr))", gap: 16 }}>
        {starters.data?.map((s) => (
          <Card
            key={s.name}
            size="small"
            title={s.title || s.name}
            extra={
              <Button size="small" disabled={Boolean(s.problem)} onClick={() => setChosen(s)}>
                {say.lookInside()}
              </Button>
            }
          >
            {s.problem ? say.itCannotBeUsed(s.problem) : s.description}
            <div className="quiet">{s.options.length > 0 ? say.toChoose(s.options.map((o) => o.name).join(", ")) : say.nothingToChoose()}</div>
          </Card>
        ))}
      </div>
      {chosen && <Inside of={chosen} onClose={() => setChosen(undefined)} />}
    </>
  );
}

/** The files of a starter with what is chosen in them, and the command that writes them. */
function Inside({ of: s, onClose }: { of: Starter; onClose: () => void }) {
  const usual = Object.fromEntries(s.options.map((o) => [o.name, o.default ?? ""]));
  const [choices, setChoices] = useState<Record<string, string>>(usual);
  const fill = useMutation({ mutationFn: (options: Record<string, string>) => fillIt(s.name, options) });
  const command = [
    "yardbench starter write",
    s.name,
    ...Object.entries(choices)
      .filter(([k, v]) => v !== usual[k])
      .map(([k, v]) => `--choose ${k}=${/^[\w./-]+$/.test(v) ? v : `'${v.replaceAll("'", `'\\''`)}'`}`),
  ].join(" ");
  return (
    <Modal open title={s.title || s.name} footer={null} width={760} onCancel={onClose} afterOpenChange={(open) => open && fill.mutate(choices)}>
      <Form layout="inline" style={{ rowGap: 8, marginBottom: 16 }}>
        {s.options.map((o) => (
          <Form.Item key={o.name} label={o.name} tooltip={o.description}>
            {o.only_these || o.kind !== "text" ? (
              <Select
                style={{ minWidth: 140 }}
                value={choices[o.name]}
                options={(o.kind === "text" ? o.choices : ["true", "false"]).map((c) => ({ value: c, label: c }))}
                onChange={(v: string) => {
                  setChoices({ ...choices, [o.name]: v });
                  fill.mutate({ ...choices, [o.name]: v });
                }}
              />
            ) : (
              <Input style={{ width: 140 }} spellCheck={false} value={choices[o.name]} onChange={(e) => setChoices({ ...choices, [o.name]: e.target.value })} onBlur={() => fill.mutate(choices)} onPressEnter={() => fill.mutate(choices)} />
            )}
          </Form.Item>
        ))}
      </Form>
      <ProblemNote error={fill.error} />
      <Typography.Paragraph copyable code>
        {command}
      </Typography.Paragraph>
      <Space orientation="vertical" size={12} style={{ width: "100%" }}>
        {fill.data?.files.map((f) => (
          <section key={f.path} aria-label={f.path}>
            <b>{f.path}</b>
            <pre className="log short">{read(f.content)}</pre>
          </section>
        ))}
      </Space>
    </Modal>
  );
}

const read = (base64: string) => new TextDecoder().decode(Uint8Array.from(atob(base64), (c) => c.charCodeAt(0)));
