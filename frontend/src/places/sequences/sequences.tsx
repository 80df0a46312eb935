import { Route, Routes } from "react-router";
import { LadderPage } from "./ladder";
import { SequenceListPage } from "./list";
import { WalkPage } from "./walk";

export function SequencesPlace() {
  return (
    <Routes>
      <Route index element={<SequenceListPage />} />
      <Route path=":id" element={<LadderPage />} />
      <Route path=":id/walk" element={<WalkPage />} />
    </Routes>
  );
}
