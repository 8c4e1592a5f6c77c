import type { ReactNode } from "react";
import { Button as AriaButton, type ButtonProps } from "react-aria-components";
import styled, { css } from "styled-components";
import type { Schemas } from "../api/client";
import { Problem } from "../api/client";
import { useWhyNot, type Role } from "./may";

/** The one place where React Aria's behaviour gets our look. */

const button = css`
  font: 600 13px/1 ${({ theme }) => theme.text};
  height: 28px;
  padding: 0 12px;
  border-radius: ${({ theme }) => theme.corner};
  cursor: default;
  white-space: nowrap;
  &[data-focus-visible] { outline: 2px solid ${({ theme }) => theme.act}; outline-offset: 2px; }
  &[data-disabled] { opacity: 0.55; }
`;

const Plain = styled(AriaButton)`
  ${button}
  border: 1px solid ${({ theme }) => theme.ink2};
  background: ${({ theme }) => theme.sheet};
  color: ${({ theme }) => theme.ink};
  &[data-hovered] { background: ${({ theme }) => theme.sunk}; }
`;

const Main = styled(AriaButton)`
  ${button}
  border: 1px solid ${({ theme }) => theme.act};
  background: ${({ theme }) => theme.act};
  color: ${({ theme }) => theme.onAct};
  &[data-hovered] { filter: brightness(1.08); }
`;

const Bare = styled(AriaButton)`
  ${button}
  height: auto;
  min-height: 24px;
  min-width: 24px;
  padding: 3px 6px;
  border: 0;
  background: none;
  color: ${({ theme }) => theme.act};
  &[data-hovered] { text-decoration: underline; }
`;

/** A button; where it needs a role the person lacks, it is off and says why. */
export function Button({ main, bare, needs, ...rest }: ButtonProps & { main?: boolean; bare?: boolean; needs?: Role }) {
  const why = useWhyNot(needs);
  const shown = why ? { ...rest, isDisabled: true } : rest;
  const button = main ? <Main {...shown} /> : bare ? <Bare {...shown} /> : <Plain {...shown} />;
  return why ? <span title={why}>{button}</span> : button;
}

/** How a list looks that opens over the page. */
export const opened = css`
  padding: 4px;
  outline: none;
  background: ${({ theme }) => theme.sheet};
  border: 1px solid ${({ theme }) => theme.ink2};
  border-radius: ${({ theme }) => theme.corner};
  box-shadow: 0 4px 14px rgb(0 0 0 / 0.18);
`;

export const Card = styled.section`
  background: ${({ theme }) => theme.sheet};
  border: 1px solid ${({ theme }) => theme.rule};
  border-radius: 5px;
`;

export const Row = styled.div<{ $gap?: number; $wrap?: boolean }>`
  display: flex;
  align-items: center;
  gap: ${({ $gap }) => $gap ?? 12}px;
  flex-wrap: ${({ $wrap }) => ($wrap ? "wrap" : "nowrap")};
`;

export const Heading = styled.h2`
  margin: 0;
  font: 700 13px/1.3 ${({ theme }) => theme.text};
`;

export const Quiet = styled.span`color: ${({ theme }) => theme.ink2};`;
export const Mono = styled.span`font-family: ${({ theme }) => theme.mono}; font-variant-numeric: tabular-nums;`;

const TitleRow = styled.header`
  flex: none;
  display: flex;
  align-items: center;
  gap: 12px;
  min-height: 30px;
  margin-bottom: 10px;
  h1 { margin: 0; font: 700 20px/1.2 ${({ theme }) => theme.text}; white-space: nowrap; }
  > span { flex: 1; min-width: 0; color: ${({ theme }) => theme.ink2}; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
  @media (max-width: 700px) { flex-wrap: wrap; h1 { white-space: normal; } > span { flex: 1 0 100%; } }
`;

/** The title of a station: in words what is shown, then actions. */
export function Title({ children, about, actions }: { children: ReactNode; about?: ReactNode; actions?: ReactNode }) {
  return (
    <TitleRow>
      <h1>{children}</h1>
      <span>{about}</span>
      {actions}
    </TitleRow>
  );
}

type Level = Schemas["HealthLevel"];
const marks: Record<Level, string> = { critical: "◆", major: "▲", minor: "△", warning: "○", clear: "·" };
const MarkSpan = styled.span<{ $level: Level }>`
  display: inline-block;
  width: 14px;
  flex: none;
  text-align: center;
  color: ${({ theme, $level }) => theme[$level]};
`;

/** Severity or state: a sign and a colour, never the colour alone. */
export const Mark = ({ level, title }: { level: Level; title?: string }) => (
  <MarkSpan $level={level} role="img" aria-label={title ?? level} title={title}>{marks[level]}</MarkSpan>
);

const EmptyBox = styled.div`
  padding: 40px 24px;
  text-align: center;
  h2 { margin: 0 0 6px; font: 700 15px/1.3 ${({ theme }) => theme.text}; }
  p { margin: 0 auto 16px; max-width: 460px; color: ${({ theme }) => theme.ink2}; }
`;

/** What will be here, and the next step that fills it. */
export const Empty = ({ title, children, action }: { title: string; children?: ReactNode; action?: ReactNode }) => (
  <EmptyBox><h2>{title}</h2><p>{children}</p>{action}</EmptyBox>
);

const TroubleBox = styled.div`
  padding: 10px 14px;
  border-left: 3px solid ${({ theme }) => theme.critical};
  background: ${({ theme }) => theme.sheet};
  b { display: block; }
  span { color: ${({ theme }) => theme.ink2}; }
`;

/** What happened, why, and what to do. */
export function Trouble({ error }: { error: unknown }) {
  const problem = error instanceof Problem ? error : typeof error === "string" ? new Problem(0, error, "") : new Problem(0, "Something went wrong in the page.", String(error));
  const several = problem.errors.filter((one): one is string => typeof one === "string");
  return <TroubleBox role="alert"><b>{problem.title}</b>{several.length > 1 ? several.map((one) => <div key={one}><span>{one}</span></div>) : problem.detail && <span>{problem.detail}</span>}</TroubleBox>;
}

export const Waiting = ({ what }: { what: string }) => <Empty title={what}>This takes a moment.</Empty>;
