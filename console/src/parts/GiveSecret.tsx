import { useMutation } from "@tanstack/react-query";
import { Form, Input, Modal, Radio, Select } from "antd";
import { ProblemNote } from "./ProblemNote";
import { useDone } from "./useDone";
import { put as putIt } from "../service/secrets";

type Fields = { name: string; value: string; form: "variable" | "file"; reach: "everywhere" | "named"; repositories: string[] };

/**
 * The form that sets a secret: a person's own, or with `of` a repository's.
 * With a name it is for that one and `repository`, as a launch asks for it.
 */
export function GiveSecret({ name, repository, of, repositories, open = Boolean(name), onClose }: { name?: string; repository?: string; of?: string; repositories?: string[]; open?: boolean; onClose: () => void }) {
  const [form] = Form.useForm<Fields>();
  const reach = Form.useWatch("reach", form);
  const { onSettled } = useDone("secrets", "preflight", "workspaces");
  const put = useMutation({
    mutationFn: (f: Fields) => {
      const body = { value: f.value, form: f.form, everywhere: !of && f.reach === "everywhere", repositories: !of && f.reach === "named" ? f.repositories : undefined };
      return putIt(f.name, body, of);
    },
    onSettled,
    onSuccess: () => {
      form.resetFields();
      onClose();
    },
  });
  return (
    <Modal
      open={open}
      title={of ? `A secret of ${of}` : name ? `Give ${name}` : "A secret of yours"}
      okText="Set it"
      onOk={() => form.submit()}
      confirmLoading={put.isPending}
      onCancel={() => {
        form.resetFields();
        put.reset();
        onClose();
      }}
      destroyOnHidden
    >
      <Form<Fields>
        form={form}
        layout="vertical"
        requiredMark={false}
        initialValues={{ name, form: "variable", reach: repository ? "named" : undefined, repositories: repository ? [repository] : [] }}
        onFinish={(f) => put.mutate({ ...f, name: name ?? f.name })}
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
        {!of && (
          <Form.Item name="reach" label="Given to" rules={[{ required: true, message: "Say whom it is given to" }]}>
            <Radio.Group options={[{ value: "named", label: "my workspaces of these repositories" }, { value: "everywhere", label: "all my workspaces" }]} />
          </Form.Item>
        )}
        {!of && reach === "named" && (
          <Form.Item name="repositories" rules={[{ required: true, message: "Name at least one" }]}>
            <Select mode="multiple" aria-label="Repositories" options={(repositories ?? (repository ? [repository] : [])).map((r) => ({ value: r, label: r }))} />
          </Form.Item>
        )}
        <ProblemNote error={put.error} />
      </Form>
    </Modal>
  );
}
