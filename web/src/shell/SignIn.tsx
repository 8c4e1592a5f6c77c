import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import styled from "styled-components";
import { api, got } from "../api/client";
import { Button, Trouble } from "../parts/basics";
import { TextInput } from "../parts/fields";
import { Logo } from "./Header";

const Page = styled.main`
  min-height: 100vh;
  display: flex;
  flex-direction: column;
  align-items: center;
  padding-top: 15vh;
  box-sizing: border-box;
  gap: 22px;
  h1 { display: flex; align-items: center; gap: 10px; margin: 0; font: 700 24px/1 ${({ theme }) => theme.text}; }
`;
const Form = styled.form`
  width: 340px;
  box-sizing: border-box;
  padding: 22px;
  display: flex;
  flex-direction: column;
  gap: 14px;
  background: ${({ theme }) => theme.sheet};
  border: 1px solid ${({ theme }) => theme.rule};
  border-radius: 5px;
`;
const Hint = styled.p`margin: 0; width: 340px; color: ${({ theme }) => theme.ink2}; code { font-family: ${({ theme }) => theme.mono}; color: ${({ theme }) => theme.ink}; }`;

export function SignIn() {
  const [email, setEmail] = useState("");
  const [password, setPassword] = useState("");
  const [error, setError] = useState<unknown>(null);
  const [busy, setBusy] = useState(false);
  const queries = useQueryClient();
  const hint = useQuery({ queryKey: ["hint"], queryFn: () => got(api.GET("/api/session/hint")) });
  const submit = async () => {
    setBusy(true);
    setError(null);
    try {
      await got(api.POST("/api/session", { body: { email, password } }));
      await queries.invalidateQueries({ queryKey: ["session"] });
    } catch (trouble) {
      setError(trouble);
    } finally {
      setBusy(false);
    }
  };
  return (
    <Page>
      <h1><Logo />skevin</h1>
      <Form aria-label="Sign in" onSubmit={(event) => { event.preventDefault(); void submit(); }}>
        <TextInput label="E-mail" type="email" value={email} onChange={setEmail} autoFocus />
        <TextInput label="Password" type="password" value={password} onChange={setPassword} />
        {error ? <Trouble error={error} /> : null}
        <Button main type="submit" isDisabled={busy || !email || !password}>{busy ? "Signing in" : "Sign in"}</Button>
      </Form>
      {hint.data?.demo && <Hint>This is the demo. Sign in as <code>{hint.data.email}</code> with the password <code>{hint.data.password}</code>. All its data is invented.</Hint>}
    </Page>
  );
}
