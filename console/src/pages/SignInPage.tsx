import { useMutation } from "@tanstack/react-query";
import { Button, Form, Input, Typography } from "antd";
import { api, take } from "../api/client";
import { ProblemNote } from "../parts/ProblemNote";

type Fields = { name: string; password: string };

export function SignInPage({ onSignedIn }: { onSignedIn: () => void }) {
  const signIn = useMutation({
    mutationFn: (f: Fields) => take(api.POST("/api/v1/sign-in", { params: { query: { door: "console" } }, body: f })),
    onSuccess: onSignedIn,
  });
  return (
    <div className="narrow">
      <Typography.Title level={3}>Sign in to Yard Bench</Typography.Title>
      <Form<Fields> layout="vertical" size="large" onFinish={(f) => signIn.mutate(f)} requiredMark={false}>
        <Form.Item name="name" label="Name" rules={[{ required: true, message: "Your name, please" }]}>
          <Input autoFocus autoComplete="username" />
        </Form.Item>
        <Form.Item name="password" label="Password" rules={[{ required: true, message: "Your password, please" }]}>
          <Input.Password autoComplete="current-password" />
        </Form.Item>
        {signIn.error && (
          <Form.Item>
            <ProblemNote error={signIn.error} />
          </Form.Item>
        )}
        <Button type="primary" htmlType="submit" loading={signIn.isPending} block>
          Sign in
        </Button>
      </Form>
    </div>
  );
}
