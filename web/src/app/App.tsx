import {
  BulbOutlined,
  FileImageOutlined,
  FolderOpenOutlined,
  PictureOutlined,
  SlidersOutlined,
} from "@ant-design/icons";
import { App as AntApp, ConfigProvider, Tooltip } from "antd";
import { useEffect, useState } from "react";
import { Navigate, NavLink, Route, Routes, useLocation } from "react-router";
import { useLive, useLiveValue } from "../api/live";
import { useFinals, useShots } from "../api/queries";
import { BenchPage } from "../bench/BenchPage";
import { FinalsPage } from "../finals/FinalsPage";
import { LibraryPage } from "../library/LibraryPage";
import { ShotsPage } from "../shots/ShotsPage";
import { themeOf } from "./theme";
import { useTellFault } from "./useAct";

/** The shot that the bench last showed, so that the rail leads back to it. */
function useBenchAddress(): string {
  const { pathname } = useLocation();
  const shots = useShots();
  const here = /^\/bench\/(\d+)/.exec(pathname)?.[1];
  if (here) sessionStorage.setItem("bench", here);
  const last = here ?? sessionStorage.getItem("bench");
  const known = shots.data?.some((s) => String(s.id) === last);
  return known ? `/bench/${last}` : shots.data?.length ? `/bench/${shots.data.at(-1)!.id}` : "/shots";
}

function Rail({ dim, setDim }: { dim: boolean; setDim: (d: boolean) => void }) {
  const connected = useLiveValue((l) => l.connected);
  const waiting = useFinals(false).data?.pages[0]?.due ?? 0;
  return (
    <nav className="rail" aria-label="Places">
      <img src="/mark.svg" alt="Mellow Grain" className="mark" />
      <NavLink to="/shots">
        <PictureOutlined />
        Shots
      </NavLink>
      <NavLink to={useBenchAddress()} className={({ isActive }) => (isActive ? "active" : "")}>
        <SlidersOutlined />
        Bench
      </NavLink>
      <NavLink to="/finals">
        <FileImageOutlined />
        Finals
        {waiting > 0 && <span className="rail-count">{waiting}</span>}
      </NavLink>
      <NavLink to="/library">
        <FolderOpenOutlined />
        Library
      </NavLink>
      <span className="grow" />
      {!connected && (
        <Tooltip title="The program does not answer. It is tried again every second." placement="right">
          <span className="rail-lost">no link</span>
        </Tooltip>
      )}
      <Tooltip title={dim ? "Paper-light panels" : "Panels for a dim room"} placement="right">
        <button aria-label="Switch panels for a dim room" onClick={() => setDim(!dim)}>
          <BulbOutlined />
        </button>
      </Tooltip>
    </nav>
  );
}

/** Says what came to nothing beside the page's own doing. */
function Refusals() {
  const { refused, notice } = useLive();
  const tell = useTellFault();
  const { notification } = AntApp.useApp();
  useEffect(() => {
    if (refused) tell(refused, "");
  }, [refused, tell]);
  useEffect(() => {
    if (notice) notification.info({ title: notice.text, placement: "bottom", duration: 8 });
  }, [notice, notification]);
  return null;
}

export function App() {
  const [dim, keep] = useState(() => localStorage.getItem("dim") === "yes");
  const setDim = (d: boolean) => {
    localStorage.setItem("dim", d ? "yes" : "no");
    keep(d);
  };
  return (
    <ConfigProvider theme={themeOf(dim)}>
      <AntApp component={false}>
        <div className={dim ? "house dim" : "house"}>
          <Rail dim={dim} setDim={setDim} />
          <Refusals />
          <Routes>
            <Route path="/shots" element={<ShotsPage />} />
            <Route path="/bench/:shot" element={<BenchPage />} />
            <Route path="/finals" element={<FinalsPage />} />
            <Route path="/library" element={<LibraryPage />} />
            <Route path="*" element={<Navigate to="/shots" replace />} />
          </Routes>
        </div>
      </AntApp>
    </ConfigProvider>
  );
}
