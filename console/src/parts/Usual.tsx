import { useQuery } from "@tanstack/react-query";
import { Button, Form, Input, InputNumber, Select } from "antd";
import { useState } from "react";
import { putUsual, usual as usualOf } from "../service/session";
import { Ask } from "./Ask";
import { ProblemNote } from "./ProblemNote";
import { span } from "words/amounts";
import * as say from "words/parts/Usual";

type Fields = { git_name?: string; git_email?: string; shell?: string; zone?: string; language?: string; size?: string; rest_hours?: number };

const zones = typeof Intl.supportedValuesOf === "function" ? Intl.supportedValuesOf("timeZone") : [];
const given = (v?: string) => v?.trim() || undefined;

/** What somebody usually wants: in git, of terminals, of launches. */
export function Usual() {
  const [asking, setAsking] = useState(false);
  const usual = useQuery(usualOf);
  const u = usual.data;
  const lines = u
    ? [
        [say.inGit(), [u.git_name, u.git_email].filter(Boolean).join(" ")],
        [say.shell(), u.shell],
        [say.zone(), u.zone],
        [say.language(), u.language],
        [say.size(), u.size],
        [say.restAfter(), u.rest_after_s ? span(u.rest_after_s) : ""],
      ].filter(([, v]) => v)
    : [];
  return (
    <section aria-label={say.usually()}>
      <h2 className="below">{say.usually()}</h2>
      <p className="quiet">{say.whatItIs()}</p>
      <ProblemNote error={usual.error} />
      <div data-usual={lines.map(([k, v]) => `${k} ${v}`).join("; ")} style={{ marginBottom: 8 }}>
        {lines.length === 0 ? say.asForEverybody() : lines.map(([k, v]) => <div key={k}>{say.line(k ?? "", v ?? "")}</div>)}
      </div>
      <Button size="small" onClick={() => setAsking(true)} disabled={!u}>
        {say.change()}
      </Button>
      {asking && u && (
        <Ask<Fields>
          title={say.usually()}
          ok={say.setIt()}
          initial={{ ...u, rest_hours: u.rest_after_s ? u.rest_after_s / 3600 : undefined }}
          ask={(v) => putUsual({ git_name: given(v.git_name), git_email: given(v.git_email), shell: given(v.shell), zone: v.zone, language: given(v.language), size: given(v.size), rest_after_s: v.rest_hours ? Math.round(v.rest_hours * 3600) : undefined })}
          changes={["me", "preflight"]}
          onClose={() => setAsking(false)}
        >
          <Form.Item name="git_name" label={say.nameInCommits()}>
            <Input autoFocus placeholder={say.yourFullName()} />
          </Form.Item>
          <Form.Item name="git_email" label={say.addressInCommits()}>
            <Input placeholder={say.yourAddress()} />
          </Form.Item>
          <Form.Item name="shell" label={say.shell()} extra={say.whereTheImageHasIt()}>
            <Input spellCheck={false} placeholder={say.likeZsh()} />
          </Form.Item>
          <Form.Item name="zone" label={say.zone()}>
            <Select showSearch allowClear placeholder={say.theImages()} options={zones.map((z) => ({ value: z, label: z }))} />
          </Form.Item>
          <Form.Item name="language" label={say.language()}>
            <Input spellCheck={false} placeholder={say.likeNb()} />
          </Form.Item>
          <Form.Item name="size" label={say.size()} extra={say.ofLaunchesThat()}>
            <Input spellCheck={false} />
          </Form.Item>
          <Form.Item name="rest_hours" label={say.restAfterHours()} extra={say.ofLaunchesThat()}>
            <InputNumber min={0.25} step={0.25} />
          </Form.Item>
        </Ask>
      )}
    </section>
  );
}
