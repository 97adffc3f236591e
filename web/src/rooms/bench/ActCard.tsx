import { useQuery } from "@tanstack/react-query";
import { api, type Body, keys, unwrap, type BenchView } from "@/shared/client";
import { KEY, useKeys } from "@/shared/keys";
import { Key } from "@/design/Key";
import { StrapDrawing } from "@/design/StrapDrawing";
import { ChooseCard } from "@/rooms/bench/ChooseCard";
import { Foot } from "@/rooms/bench/Foot";
import { Head } from "@/rooms/bench/Head";
import { ProbeCard } from "@/rooms/bench/ProbeCard";
import { CountedProof, SenseProof } from "@/rooms/bench/ProofCards";
import { SealCard } from "@/rooms/bench/SealCard";
import { SignCard } from "@/rooms/bench/SignCard";
import { StartCard } from "@/rooms/bench/StartCard";
import { TaskCard } from "@/rooms/bench/TaskCard";
import { MethodCard } from "@/rooms/bench/senses/MethodCard";
import { ScreenCard } from "@/rooms/bench/senses/ScreenCard";
import { SenseStart } from "@/rooms/bench/senses/SenseStart";
import type { ActProps } from "@/rooms/bench/card";

/** An act of the procedure: each has a card of its own. */
export function ActCard(props: ActProps) {
  switch (props.card.act) {
    case "choose_task":
      return <TaskCard {...props} />;
    case "choose_facepiece":
      return <ChooseCard {...props} />;
    case "choose_method":
      return <MethodCard {...props} />;
    case "screen":
      return <ScreenCard {...props} />;
    case "seal_check":
      return <SealCard {...props} />;
    case "run":
      return props.view.visit.test_plan ? (
        <SenseStart {...props} plan={props.view.visit.test_plan} />
      ) : (
        <StartCard {...props} />
      );
    case "sign_wearer":
    case "sign_tester":
      return <SignCard {...props} />;
    case "fit_probe":
      return <ProbeCard {...props} />;
    case "don":
      return <DonCard {...props} />;
    case "proof":
      return props.view.visit.tries.at(-1)?.senses ? <SenseProof {...props} /> : <CountedProof {...props} />;
    case "put_back":
      return <PutBackCard {...props} />;
    default:
      return <SimpleAct {...props} />;
  }
}

function SimpleAct({ card, view, propose, next, back }: ActProps) {
  const bodies: Record<string, Body> = {
    doff: { kind: "doffed", why: "done" },
    mistaken: { kind: "opened_by_mistake" },
    release: { kind: "released" },
  };
  const act = () => propose(bodies[card.act] ?? { kind: "released" });
  const words: Record<string, string> = {
    doff: "it is off",
    mistaken: "end it: opened by mistake",
    release: `release ${view.first_name}`,
  };
  useKeys({ [KEY.fine]: act });
  return (
    <section className="card" data-item={card.id}>
      <Head card={card} view={view}>
        {card.act === "doff" && <Steps view={view} of="doffing" />}
      </Head>
      <Foot next={next}>
        <Key cap="Space" label={words[card.act] ?? "done"} tone="tarn" onPress={act} />
        {back && <Key cap="U" label="back" onPress={back} />}
      </Foot>
    </section>
  );
}

function DonCard({ card, view, propose, next, back }: ActProps) {
  const isOn = view.visit.worn_since !== null;
  const alone = () => propose({ kind: "donned", unaided: true });
  const helped = () => propose({ kind: "donned", unaided: false });
  const off = () => propose({ kind: "doffed", why: "refit" });
  useKeys({ [KEY.fine]: isOn ? off : alone, [KEY.notFine]: isOn ? undefined : helped });
  if (isOn) {
    return (
      <section className="card" data-item={card.id}>
        <p className="mode">Do</p>
        <h1 className="question">Off again: the wearer dons it alone</h1>
        <p className="say">“Take it off once more and put it on by yourself; I only watch.”</p>
        <Foot next={next}>
          <Key cap="Space" label="it is off" tone="tarn" onPress={off} />
        </Foot>
      </section>
    );
  }
  return (
    <section className="card" data-item={card.id}>
      <Head card={card} view={view}>
        <Steps view={view} of="donning" />
        <p className="reading">
          The wear clock starts when it is on and fastened. {view.visit.wear_minutes} minutes of wear come before
          comfort and test.
        </p>
      </Head>
      <Foot next={next}>
        <Key cap="Space" label="on and fastened, unaided" tone="tarn" onPress={alone} />
        <Key cap="N" label="had help" tone="gorse" onPress={helped} />
        {back && <Key cap="U" label="back" onPress={back} />}
      </Foot>
    </section>
  );
}

/** The maker's own steps for this model, where the catalogue has them; the words to say are the default by kind. */
function Steps({ view, of }: { view: BenchView; of: "donning" | "doffing" }) {
  const version = view.visit.facepiece?.version_id ?? "";
  const steps =
    useQuery({
      queryKey: keys.facepiece(version),
      queryFn: () => unwrap(api.GET("/api/facepieces/{version_id}", { params: { path: { version_id: version } } })),
      enabled: version !== "",
    }).data?.[of] ?? [];
  if (!steps.length) return null;
  return (
    <ol className="reading" aria-label={`${of}, as the maker has it`}>
      {steps.map((one) => (
        <li key={one}>{one}</li>
      ))}
    </ol>
  );
}

function PutBackCard({ card, view, propose, next }: ActProps) {
  const first = view.visit.alterations[0];
  const done = () => {
    if (first) propose({ kind: "alteration_undone", alteration: first.id });
  };
  useKeys({ [KEY.fine]: done });
  if (!first) return null;
  return (
    <section className="card" data-item="put_back">
      <p className="mode">
        Put back
        <i />
        nobody is released before
      </p>
      <div className="card-head">
        <div>
          <h1 className="question">{first.put_back}</h1>
          <p className="say">“{first.say}”</p>
          {view.visit.alterations.length > 1 && (
            <p className="reading">{view.visit.alterations.length - 1} more after this.</p>
          )}
        </div>
        {card.drawing && <StrapDrawing name={card.drawing} />}
      </div>
      <Foot next={next}>
        <Key cap="Space" label="put back" tone="tarn" onPress={done} />
      </Foot>
    </section>
  );
}
