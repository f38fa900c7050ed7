import { Alert, Button, Card, Form, Input } from "antd";
import { useMutation } from "@tanstack/react-query";
import { api, type Operator } from "./api";

export function SignIn({ done }: { done: (o: Operator) => void }) {
  const signIn = useMutation({
    mutationFn: (f: { operator: string; password: string }) => api.signIn(f.operator, f.password),
    onSuccess: done,
  });
  return (
    <main className="sign-in">
      <Card>
        <h1>Plum Latch</h1>
        <p className="quiet">Which key opens which instance, and how we know.</p>
        <Form
          layout="vertical"
          requiredMark={false}
          onFinish={(f: { operator: string; password: string }) => signIn.mutate(f)}
        >
          <Form.Item
            name="operator"
            label="Operator"
            rules={[{ required: true, message: "Your name here" }]}
          >
            <Input autoComplete="username" autoFocus />
          </Form.Item>
          <Form.Item
            name="password"
            label="Password"
            rules={[{ required: true, message: "Your password" }]}
          >
            <Input.Password autoComplete="current-password" />
          </Form.Item>
          {signIn.error && (
            <Alert type="error" showIcon title={signIn.error.message} className="gap" />
          )}
          <Button type="primary" htmlType="submit" block loading={signIn.isPending}>
            Sign in
          </Button>
        </Form>
      </Card>
    </main>
  );
}
