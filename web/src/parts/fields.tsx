import { FieldError, Input, Label, ListBox, ListBoxItem, NumberField, Popover, Select, SelectValue, Text, TextArea, TextField, Button as AriaButton, Switch as AriaSwitch } from "react-aria-components";
import styled, { css } from "styled-components";
import { opened } from "./basics";

const box = css`
  font: 13px/1.4 ${({ theme }) => theme.text};
  color: ${({ theme }) => theme.ink};
  background: ${({ theme }) => theme.sheet};
  border: 1px solid ${({ theme }) => theme.ink2};
  border-radius: ${({ theme }) => theme.corner};
  padding: 4px 8px;
  min-height: 28px;
  box-sizing: border-box;
  &[data-focused], &[data-focus-visible] { outline: 2px solid ${({ theme }) => theme.act}; outline-offset: 0; }
  &[data-invalid] { border-color: ${({ theme }) => theme.critical}; }
`;

const Field = styled(TextField)`
  display: flex;
  flex-direction: column;
  gap: 3px;
  label { font-weight: 600; }
  [slot="description"] { color: ${({ theme }) => theme.ink2}; }
  [slot="errorMessage"] { color: ${({ theme }) => theme.critical}; }
`;
const Line = styled(Input)`${box}`;
const Area = styled(TextArea)`${box} font-family: ${({ theme }) => theme.mono}; resize: vertical;`;

/** A line or area of text with its label, help and mistake. */
export function TextInput({ label, value, onChange, rows, help, mistake, type, required, autoFocus, placeholder, hideLabel }: {
  label: string; value: string; onChange: (value: string) => void; rows?: number; help?: string; mistake?: string; type?: "text" | "password" | "email"; required?: boolean; autoFocus?: boolean; placeholder?: string; hideLabel?: boolean;
}) {
  return (
    <Field value={value} onChange={onChange} isInvalid={!!mistake} type={type} isRequired={required} autoFocus={autoFocus} aria-label={hideLabel ? label : undefined}>
      {!hideLabel && <Label>{label}</Label>}
      {rows ? <Area rows={rows} spellCheck={false} placeholder={placeholder} /> : <Line placeholder={placeholder} />}
      {help && <Text slot="description">{help}</Text>}
      {mistake && <FieldError>{mistake}</FieldError>}
    </Field>
  );
}

const Numbers = styled(NumberField)`display: flex; align-items: center; justify-content: space-between; gap: 12px; input { width: 110px; text-align: right; font-family: ${({ theme }) => theme.mono}; }`;

/** A number from 0 up, with its label before it; arrows and Page Up and Down change it. */
export function NumberInput({ label, value, onChange }: { label: string; value: number; onChange: (value: number) => void }) {
  return <Numbers value={value} minValue={0} formatOptions={{ maximumFractionDigits: 6, useGrouping: false }} onChange={(next) => onChange(Number.isNaN(next) ? 0 : next)}><Label>{label}</Label><Line /></Numbers>;
}

const Picker = styled(AriaButton)`
  ${box}
  display: inline-flex;
  align-items: center;
  gap: 6px;
  padding: 0 8px;
  cursor: default;
  white-space: nowrap;
`;
const Choices = styled(ListBox)`
  min-width: 140px;
  max-height: 320px;
  overflow: auto;
  ${opened}
`;
const Choice = styled(ListBoxItem)`
  padding: 4px 8px;
  cursor: default;
  border-radius: 3px;
  outline: none;
  &[data-focused], &[data-hovered] { background: ${({ theme }) => theme.sunk}; }
  &[data-selected] { font-weight: 700; }
`;
const Chooser = styled(Select)`display: inline-flex; align-items: center; gap: 6px;` as typeof Select;

/** One of several. */
export function Choose<K extends string>({ label, value, options, onChange, hideLabel }: {
  label: string; value: K; options: { id: K; text: string }[]; onChange: (value: K) => void; hideLabel?: boolean;
}) {
  return (
    <Chooser aria-label={hideLabel ? label : undefined} value={value} onChange={(key) => onChange(key as K)}>
      {!hideLabel && <Label>{label}</Label>}
      <Picker><SelectValue>{({ selectedText }) => selectedText || options.find((option) => option.id === value)?.text}</SelectValue><span aria-hidden="true">▾</span></Picker>
      <Popover><Choices items={options}>{(option) => <Choice id={(option as { id: string }).id}>{(option as { text: string }).text}</Choice>}</Choices></Popover>
    </Chooser>
  );
}

const Toggle = styled(AriaSwitch)`
  display: inline-flex;
  align-items: center;
  gap: 8px;
  cursor: default;
  .track { width: 28px; height: 16px; border-radius: 4px; border: 1px solid ${({ theme }) => theme.ink2}; background: ${({ theme }) => theme.sunk}; display: flex; padding: 1px; box-sizing: border-box; flex: none; }
  .track i { width: 12px; height: 12px; border-radius: 3px; background: ${({ theme }) => theme.ink2}; }
  &[data-selected] .track { background: ${({ theme }) => theme.act}; justify-content: flex-end; }
  &[data-selected] .track i { background: ${({ theme }) => theme.onAct}; }
  &[data-focus-visible] .track { outline: 2px solid ${({ theme }) => theme.act}; outline-offset: 2px; }
`;

export const Switch = ({ children, on, onChange, disabled }: { children: React.ReactNode; on: boolean; onChange: (on: boolean) => void; disabled?: boolean }) => (
  <Toggle isSelected={on} onChange={onChange} isDisabled={disabled}><span className="track"><i /></span>{children}</Toggle>
);
