import "@/app/admin.css";
import { NavLink, Outlet } from "react-router";

const ROOMS = [
  ["/admin", "First test and backups"],
  ["/admin/places", "Employers and sites"],
  ["/admin/accounts", "Colleagues"],
  ["/admin/instruments", "Instruments"],
  ["/admin/facepieces", "Facepieces"],
  ["/admin/tokens", "Tokens"],
  ["/admin/journal", "Journal"],
] as const;

/** The administrator's rooms, side by side. */
export function AdminPage() {
  return (
    <main className="page admin">
      <nav aria-label="Administration" className="rooms">
        {ROOMS.map(([path, name]) => (
          <NavLink key={path} to={path} end={path === "/admin"}>
            {name}
          </NavLink>
        ))}
      </nav>
      <Outlet />
    </main>
  );
}
