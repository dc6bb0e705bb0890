import { Form, Input, Radio, Select } from "antd";
import { put } from "../service/secrets";
import { Ask } from "./Ask";

type Fields = { name: string; value: string; form: "variable" | "file"; reach: "everywhere" | "named"; repositories: string[] };

/**
 * The form that sets a secret: a person's own, or with `of` a repository's.
 * With a name it is for that one and `repository`, as a launch asks for it.
 */
export function GiveSecret({ name, repository, of, repositories, open = Boolean(name), onClose }: { name?: string; repository?: string; of?: string; repositories?: string[]; open?: boolean; onClose: () => void }) {
  if (!open) return null;
  return (
    <Ask<Fields>
      title={of ? `A secret of ${of}` : name ? `Give ${name}` : "A secret of yours"}
      ok="Set it"
      initial={{ name, form: "variable", reach: repository ? "named" : undefined, repositories: repository ? [repository] : [] }}
      ask={(f) => put(name ?? f.name, { value: f.value, form: f.form, everywhere: !of && f.reach === "everywhere", repositories: !of && f.reach === "named" ? f.repositories : undefined }, of)}
      changes={["secrets", "preflight", "workspaces"]}
      onClose={onClose}
    >
      {!name && (
        <Form.Item name="name" label="Name" rules={[{ required: true, message: "A name, like TIDE_API_KEY" }]}>
          <Input spellCheck={false} autoComplete="off" placeholder="TIDE_API_KEY" />
        </Form.Item>
      )}
      <Form.Item name="value" label="Value" rules={[{ required: true, message: "The value" }]} extra="It is sealed, and never shown again.">
        <Input.TextArea autoSize={{ minRows: 1, maxRows: 6 }} spellCheck={false} autoComplete="off" className="hidden-text" aria-label="Value" />
      </Form.Item>
      <Form.Item name="form" label="Handed over as">
        <Radio.Group options={[{ value: "variable", label: "a variable" }, { value: "file", label: "a file, with its path in NAME_FILE" }]} />
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
      <Form.Item name="reach" label="Given to" rules={[{ required: true, message: "Say whom it is given to" }]}>
        <Radio.Group options={[{ value: "named", label: "my workspaces of these repositories" }, { value: "everywhere", label: "all my workspaces" }]} />
      </Form.Item>
      {reach === "named" && (
        <Form.Item name="repositories" rules={[{ required: true, message: "Name at least one" }]}>
          <Select mode="multiple" aria-label="Repositories" options={repositories.map((r) => ({ value: r, label: r }))} />
        </Form.Item>
      )}
    </>
  );
}
