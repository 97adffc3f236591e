import type { ComponentType } from "react";
import { useParams } from "react-router";

/** The page of somebody or something: what was shown, opened or pressed on it is of that one, never of the next. */
export function ofItsOwn(Page: ComponentType): ComponentType {
  return function OfItsOwn() {
    const whose = Object.entries(useParams()).flat().join("/");
    return <Page key={whose} />;
  };
}
