import { Form, Input, Radio, Select } from "antd";
import { put } from "../service/secrets";
import { Ask } from "./Ask";
import * as say from "words/parts/GiveSecret";

type Fields = { name: string; value: string; form: "variable" | "file"; reach: "everywhere" | "named"; repositories: string[] };

/**
 * The form that sets a secret: a person's own, or with `of` a repository's.
 * With a name it is for that one and `repository`, as a launch asks for it.
 */
export function GiveSecret({ name, repository, of, repositories, open = Boolean(name), onClose }: { name?: string; repository?: string; of?: string; repositories?: string[]; open?: boolean; onClose: () => void }) {
  if (!open) return null;
  return (
    <Ask<Fields>
      title={of ? say.aSecretOf(of) : name ? say.give(name) : say.aSecretOfYours()}
      ok={say.setIt()}
      initial={{ name, form: "variable", reach: repository ? "named" : undefined, repositories: repository ? [repository] : [] }}
      ask={(f) => put(name ?? f.name, { value: f.value, form: f.form, everywhere: !of && f.reach === "everywhere", repositories: !of && f.reach === "named" ? f.repositories : undefined }, of)}
      changes={["secrets", "preflight", "workspaces"]}
      onClose={onClose}
    >
      {!name && (
        <Form.Item name="name" label={say.name()} rules={[{ required: true, message: say.aNameLikeTide() }]}>
          <Input spellCheck={false} autoComplete="off" placeholder={say.tideApiKey()} />
        </Form.Item>
      )}
      <Form.Item name="value" label={say.value()} rules={[{ required: true, message: say.theValue() }]} extra={say.itIsSealedAnd()}>
        <Input.TextArea autoSize={{ minRows: 1, maxRows: 6 }} spellCheck={false} autoComplete="off" className="hidden-text" aria-label={say.value()} />
      </Form.Item>
      <Form.Item name="form" label={say.handedOverAs()}>
        <Radio.Group
          options={[
            { value: "variable", label: say.aVariable() },
            { value: "file", label: say.aFileWithIts() },
          ]}
        />
      </Form.Item>
      {!of && <Reach repositories={repositories ?? (repository ? [repository] : [])} />}
    </Ask>
  );
}

/** Whom one's own is given to: said explicitly. */
function Reach({ repositories }: { repositories: string[] }) {
  const reach = Form.useWatch<Fields["reach"]>("reach");
  return (
    <>
      <Form.Item name="reach" label={say.givenTo()} rules={[{ required: true, message: say.sayWhomItIs() }]}>
        <Radio.Group
          options={[
            { value: "named", label: say.myWorkspacesOfThese() },
            { value: "everywhere", label: say.allMyWorkspaces() },
          ]}
        />
      </Form.Item>
      {reach === "named" && (
        <Form.Item name="repositories" rules={[{ required: true, message: say.nameAtLeastOne() }]}>
          <Select mode="multiple" aria-label={say.repositories()} options={repositories.map((r) => ({ value: r, label: r }))} />
        </Form.Item>
      )}
    </>
  );
}
