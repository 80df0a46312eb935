import { Tabs } from "../../parts/page";

export const SubscriberTabs = () => (
  <Tabs
    of={[
      { to: "/subscribers/map", words: "Map" },
      { to: "/subscribers/table", words: "Table" },
      { to: "/subscribers/import", words: "Import" },
      { to: "/subscribers/address-checks", words: "Address checks" },
      { to: "/subscribers/consent", words: "Consent" },
      { to: "/subscribers/sunset-policy", words: "Sunset policy" },
      { to: "/subscribers/sources", words: "Sources" },
      { to: "/subscribers/machine-activity", words: "Machine activity" },
      { to: "/subscribers/score-check", words: "Score check" },
    ]}
  />
);
