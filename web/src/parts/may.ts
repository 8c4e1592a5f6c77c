import { createContext, useContext } from "react";
import type { Schemas } from "../api/client";

export type Role = "reader" | "responder" | "author" | "installer" | "keeper";

/** Who is signed in. */
export const SessionContext = createContext<Schemas["SessionView"] | null>(null);

/** Why somebody may not do what a role is needed for; null where they may. */
export function whyNot(session: Pick<Schemas["SessionView"], "roles" | "seenByKeeper"> | null, role: Role): string | null {
  if (session?.seenByKeeper) return "Nothing can be changed while you look with another's eyes.";
  return session?.roles.includes(role) ? null : `This needs the role ${role}; a keeper can give it.`;
}

export const useWhyNot = (role: Role | undefined): string | null => {
  const session = useContext(SessionContext);
  return role ? whyNot(session, role) : null;
};
