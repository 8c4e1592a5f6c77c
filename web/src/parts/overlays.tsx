import type { ReactNode } from "react";
import { Dialog as AriaDialog, Heading as AriaHeading, Menu as AriaMenu, MenuItem, MenuTrigger, Modal, ModalOverlay, Popover } from "react-aria-components";
import styled from "styled-components";
import { Button, opened, Row } from "./basics";

const Veil = styled(ModalOverlay)`
  position: fixed;
  inset: 0;
  z-index: 20;
  display: flex;
  align-items: flex-start;
  justify-content: center;
  padding-top: 70px;
  background: rgb(10 20 18 / 0.35);
`;
const Sheet = styled(Modal)`
  background: ${({ theme }) => theme.sheet};
  border: 1px solid ${({ theme }) => theme.ink2};
  border-radius: 5px;
  box-shadow: 0 10px 34px rgb(0 0 0 / 0.25);
  max-height: calc(100vh - 110px);
  max-width: calc(100vw - 40px);
  display: flex;
`;
const Inside = styled(AriaDialog)`
  outline: none;
  padding: 18px 20px;
  display: flex;
  flex-direction: column;
  gap: 12px;
  min-height: 0;
  overflow: auto;
  h2 { margin: 0; font: 700 16px/1.2 ${({ theme }) => theme.text}; }
`;

/** A dialog over the page; Escape and the close button leave it. */
export function Dialog({ title, width, onClose, children, actions }: { title: string; width: number; onClose: () => void; children: ReactNode; actions?: ReactNode }) {
  return (
    <Veil isOpen isDismissable onOpenChange={(open) => { if (!open) onClose(); }}>
      <Sheet style={{ width }}>
        <Inside style={{ width: "100%" }}>
          <AriaHeading slot="title">{title}</AriaHeading>
          {children}
          <Row style={{ justifyContent: "flex-end" }}><Button onPress={onClose}>Close</Button>{actions}</Row>
        </Inside>
      </Sheet>
    </Veil>
  );
}

const Side = styled.aside`
  width: 360px;
  flex: none;
  overflow: auto;
  padding: 14px 16px;
  box-sizing: border-box;
  background: ${({ theme }) => theme.sheet};
  border: 1px solid ${({ theme }) => theme.rule};
  border-radius: 5px;
  header { display: flex; justify-content: space-between; align-items: flex-start; gap: 8px; margin-bottom: 8px; }
  h2 { margin: 0; font: 700 15px/1.3 ${({ theme }) => theme.text}; overflow-wrap: anywhere; }
  h3 { margin: 14px 0 4px; font: 700 13px/1.3 ${({ theme }) => theme.text}; }
  dl { display: grid; grid-template-columns: auto 1fr; gap: 3px 14px; margin: 0; }
  dt { color: ${({ theme }) => theme.ink2}; }
  dd { margin: 0; text-align: right; overflow-wrap: anywhere; }
`;

/** One thing's detail beside the list it is from. */
export const Drawer = ({ title, onClose, children }: { title: string; onClose: () => void; children: ReactNode }) => (
  <Side aria-label={title}>
    <header><h2>{title}</h2><Button bare onPress={onClose} aria-label="Close the detail">Close</Button></header>
    {children}
  </Side>
);

/** A button that opens a list of which several can be taken; none stands for all. Typing finds in the list. */
export const ChooseSeveral = ({ label, options, values, more, onChange }: { label: string; options: string[]; values: string[]; more?: string; onChange: (values: string[]) => void }) => (
  <MenuTrigger>
    <Button>{label}: {values.length === 0 ? "all" : values.length > 2 ? `${values.length} of them` : values.join(", ")} <span aria-hidden="true">▾</span></Button>
    <Popover>
      <Items aria-label={label} selectionMode="multiple" selectedKeys={values} onSelectionChange={(keys) => onChange(keys === "all" ? [] : [...keys].map(String))} style={{ maxHeight: 320, overflow: "auto", minWidth: 180 }}>
        {[...new Set([...values, ...options])].map((option) => <Item key={option} id={option} textValue={option}>{({ isSelected }) => <>{isSelected ? "✓ " : ""}{option}</>}</Item>)}
      </Items>
      {options.length === 0 && <Note>Nothing of it has arrived in this window.</Note>}
      {more && <Note>{more}</Note>}
    </Popover>
  </MenuTrigger>
);

const Items = styled(AriaMenu)`${opened}` as typeof AriaMenu;
const Item = styled(MenuItem)`
  padding: 4px 10px;
  cursor: default;
  border-radius: 3px;
  outline: none;
  &[data-focused], &[data-hovered] { background: ${({ theme }) => theme.sunk}; }
  small { display: block; color: ${({ theme }) => theme.ink2}; font-size: 12px; }
`;

const Note = styled.p`margin: 0; padding: 6px 10px; font-size: 12px; max-width: 260px; background: ${({ theme }) => theme.sheet}; color: ${({ theme }) => theme.ink2};`;

/** A button that opens a list of acts. */
export const Menu = ({ title, items, onAct }: { title: string; items: { id: string; text: string; about?: string }[]; onAct: (id: string) => void }) => (
  <MenuTrigger>
    <Button bare>{title} <span aria-hidden="true">▾</span></Button>
    <Popover><Items aria-label={title} onAction={(key) => onAct(String(key))}>{items.map((item) => <Item key={item.id} id={item.id} textValue={item.text}>{item.text}{item.about && <small>{item.about}</small>}</Item>)}</Items></Popover>
  </MenuTrigger>
);
