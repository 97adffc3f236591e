import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Body, keys, unwrap, type VisitView } from "@/api/client";
import { useNow } from "@/app/clock";
import { KEY, useKeys } from "@/app/keys";
import { Text } from "@/design/Fields";
import { Key } from "@/design/Key";
import { ChooseCard } from "@/features/bench/ChooseCard";
import { Foot } from "@/features/bench/Foot";
import { Head } from "@/features/bench/Head";
import { ProbeCard } from "@/features/bench/ProbeCard";
import { SealCard } from "@/features/bench/SealCard";
import { SignCard } from "@/features/bench/SignCard";
import { StartCard } from "@/features/bench/StartCard";
import { TaskCard } from "@/features/bench/TaskCard";
import { MethodCard } from "@/features/senses/MethodCard";
import { ScreenCard } from "@/features/senses/ScreenCard";
import { SenseStart } from "@/features/senses/SenseStart";
import type { CardProps } from "@/features/bench/useVisit";

export interface ActProps extends CardProps {
  next?: string;
  back?: (() => void) | undefined;
  put: (view: VisitView) => void;
  pending: (kind: string) => number;
}

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
      return props.view.picture.test_plan ? (
        <SenseStart {...props} plan={props.view.picture.test_plan} />
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
      return props.view.picture.tries.at(-1)?.senses ? <SenseProof {...props} /> : <ProofCard {...props} />;
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
      <Head card={card}>{card.act === "doff" && <Steps view={view} of="doffing" />}</Head>
      <Foot next={next}>
        <Key cap="Space" label={words[card.act] ?? "done"} tone="tarn" onPress={act} />
        {back && <Key cap="U" label="back" onPress={back} />}
      </Foot>
    </section>
  );
}

function DonCard({ card, view, propose, next, back }: ActProps) {
  const isOn = view.picture.worn_since !== null;
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
      <Head card={card}>
        <Steps view={view} of="donning" />
        <p className="reading">
          The wear clock starts when it is on and fastened. Five minutes of wear come before comfort and test.
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
function Steps({ view, of }: { view: VisitView; of: "donning" | "doffing" }) {
  const version = view.picture.facepiece?.version_id ?? "";
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

/** The seal is broken on purpose: the figure that the display reaches is typed, soon after the end, still worn. */
function ProofCard({ card, view, propose, next }: ActProps) {
  const { proof, tries } = view.picture;
  const [seen, setSeen] = useState("");
  const runId = tries.at(-1)?.run_id ?? "";
  const left = useNow(500);
  const say = (rose: boolean) => propose({ kind: "proof_given", run_id: runId, rose, seen: rose ? seen : "" });
  useKeys({ [KEY.notFine]: () => say(false) });
  const seconds = proof?.until ? Math.max(0, Math.ceil((Date.parse(proof.until) - left) / 1000)) : null;
  const isLate = seconds === 0 || Boolean(proof?.against);
  return (
    <section className="card" data-item={card.id}>
      <Head card={card}>
        <div className="note">
          <h2>Held: next to nothing was read inside</h2>
          <p>
            That may be a very good seal, a blocked line, or a HEPA filter left on it. Break the seal: the number must
            rise{proof?.least ? ` to ${proof.least} ${proof.unit} or more` : ""}.
          </p>
          {isLate ? (
            <p className="rust" role="alert">
              {proof?.against || "Too late: this run can no longer be proved. Run again."}
            </p>
          ) : (
            seconds !== null && (
              <p role="timer">
                <b className="mono">{seconds} s</b> left for it, still worn.
              </p>
            )
          )}
        </div>
        {!isLate && (
          <form
            className="field-row"
            onSubmit={(event) => {
              event.preventDefault();
              if (seen) say(true);
            }}
          >
            <Text
              label={`Highest number seen inside, ${proof?.unit ?? ""}`}
              inputMode="decimal"
              value={seen}
              set={(text) => setSeen(text.replaceAll(/[^0-9.,]/g, "").replace(",", "."))}
              onKeyDown={(event) => {
                if (event.key.toLowerCase() === "n") say(false); // letters are no figure: the key stays a key
              }}
              autoFocus
              size="xl"
            />
            <button className="act" type="submit" disabled={!seen}>
              It rose to this
            </button>
          </form>
        )}
      </Head>
      <Foot next={next}>
        <Key
          cap="N"
          label={isLate ? "cannot be proved: void" : "it did not rise: void"}
          tone="rust"
          onPress={() => say(false)}
        />
      </Foot>
    </section>
  );
}

/** The proof after a run without detection: the agent must be sensed now, or the run shows nothing. */
function SenseProof({ card, view, propose, next }: ActProps) {
  const last = view.picture.tries.at(-1);
  const say = (sensed: boolean) => propose({ kind: "proof_sensed", run_id: last?.run_id ?? "", sensed });
  useKeys({ [KEY.fine]: () => say(true), [KEY.notFine]: () => say(false) });
  return (
    <section className="card" data-item={card.id}>
      <Head card={card}>
        <div className="note">
          <h2>Held: nothing was sensed from start to end</h2>
          <p>That may be a good seal, or a nose that has got used to it. It must be sensed now.</p>
        </div>
      </Head>
      <Foot next={next}>
        <Key cap="Space" label="yes, sensed: the proof holds" tone="tarn" onPress={() => say(true)} />
        <Key cap="N" label="not sensed: void" tone="rust" onPress={() => say(false)} />
      </Foot>
    </section>
  );
}

function PutBackCard({ view, propose, next }: ActProps) {
  const first = view.picture.loops[0];
  const done = () => {
    if (first) propose({ kind: "loop_closed", loop: first.id });
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
      <h1 className="question">{first.put_back}</h1>
      <p className="say">“{first.say}”</p>
      {view.picture.loops.length > 1 && <p className="reading">{view.picture.loops.length - 1} more after this.</p>}
      <Foot next={next}>
        <Key cap="Space" label="put back" tone="tarn" onPress={done} />
      </Foot>
    </section>
  );
}
