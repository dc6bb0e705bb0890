import { useMutation, useQuery } from "@tanstack/react-query";
import { Button, Form, Input, Select, Space } from "antd";
import { useNavigate } from "react-router";
import { api, nameOf, take } from "../api/client";
import { ProblemNote } from "../parts/ProblemNote";

type Fields = { repository: string; branch?: string; name?: string };

export function LaunchPage() {
  const navigate = useNavigate();
  const [form] = Form.useForm<Fields>();
  const chosen = Form.useWatch("repository", form);
  const repositories = useQuery({ queryKey: ["repositories"], queryFn: () => take(api.GET("/api/v1/repositories")) });
  const repository = repositories.data?.find((r) => r.name === chosen);
  const launch = useMutation({
    mutationFn: (f: Fields) =>
      take(api.POST("/api/v1/workspaces", { body: { repository: f.repository, branch: f.branch?.trim() || undefined, name: f.name?.trim() || undefined } })),
    onSuccess: (w) => navigate(`/workspaces/${nameOf(w)}`),
  });
  return (
    <>
      <div className="page-head">
        <h1>Launch a workspace</h1>
      </div>
      <Form<Fields> form={form} layout="vertical" size="middle" style={{ maxWidth: 560 }} onFinish={(f) => launch.mutate(f)} requiredMark={false}>
        <Form.Item name="repository" label="Repository" rules={[{ required: true, message: "Choose a repository" }]} extra={repository?.url}>
          <Select
            showSearch
            autoFocus
            loading={repositories.isPending}
            placeholder="Choose a repository"
            options={repositories.data?.map((r) => ({ value: r.name, label: r.name }))}
            notFoundContent="No repository is registered yet; an operator does so with: yardbench repos add ADDRESS"
          />
        </Form.Item>
        <Form.Item name="branch" label="Branch">
          <Input placeholder={repository ? `${repository.default_branch}, the default` : "the repository's default"} spellCheck={false} />
        </Form.Item>
        <Form.Item name="name" label="Name" extra="Lower-case letters, digits and dashes. Yours to choose; nobody else's names are in the way.">
          <Input placeholder={repository ? `${repository.name}, or with a number where that is taken` : "the repository's"} spellCheck={false} maxLength={40} />
        </Form.Item>
        <Space orientation="vertical" size={16} style={{ width: "100%" }}>
          <ProblemNote error={repositories.error ?? launch.error} />
          <Button type="primary" htmlType="submit" loading={launch.isPending}>
            Launch
          </Button>
        </Space>
      </Form>
    </>
  );
}
