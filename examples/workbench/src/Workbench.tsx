/** The page: an answer, the lines that read it, and what it becomes. */

import { Text as Lines } from "@codemirror/state";
import {
  ActionIcon,
  Alert,
  Badge,
  Button,
  Code,
  CopyButton,
  Group,
  Menu,
  Select,
  Tabs,
  Text,
  Title,
  useComputedColorScheme,
  useMantineColorScheme,
} from "@mantine/core";
import { type DragEvent, memo, useCallback, useMemo, useState } from "react";
import { Editor } from "./Editor.js";
import { answerIn, asTypeScript, drafted } from "./export.js";
import { Fields } from "./Fields.js";
import { Decisions, Misfits } from "./Others.js";
import type { Shown } from "./protocol.js";
import { SAMPLES, type Sample } from "./samples.js";
import { Tables } from "./Tables.js";
import { type Answer, usePreview } from "./usePreview.js";

const [FIRST] = SAMPLES;
/** Stands for the address of an answer that was pasted. */
const ADDRESS = "https://api.huts.example/v1/records";

/** As the editor splits it into lines. */
const textOf = (text: string) => Lines.of(text.split(/\r\n?|\n/));

export function Workbench() {
  const [answer, setAnswer] = useState<Answer>(() => ({ doc: textOf(FIRST!.answer()) }));
  const [lines, setLines] = useState(() => textOf(FIRST!.connector));
  const [stream, setStream] = useState<string>();
  const isDark = useComputedColorScheme("light") === "dark";
  const connector = useMemo(() => lines.toString(), [lines]);
  const { shown, mistake, isWhole, ms } = usePreview(answer, connector, stream);

  const take = useCallback((text: string) => {
    setAnswer({ doc: textOf(answerIn(text) ?? text) });
    const made = drafted(text, ADDRESS);
    if (made !== undefined) setLines(textOf(made));
  }, []);
  const takeSample = useCallback((sample: Sample) => {
    setAnswer({ doc: textOf(sample.answer()) });
    setLines(textOf(sample.connector));
    setStream(undefined);
  }, []);
  const write = useCallback(({ doc }: Answer) => setLines(doc), []);
  const drop = async (event: DragEvent) => {
    event.preventDefault();
    const [file] = event.dataTransfer.files;
    if (file !== undefined) take(await file.text());
  };
  return (
    <div className="page">
      <header className="head">
        <Title order={1} size="h4">
          Workbench
        </Title>
        <Text size="sm" visibleFrom="md">
          An answer, the connector lines that read it, and the tables that come out. Nothing leaves this page.
        </Text>
        <Scheme isDark={isDark} />
      </header>
      <main className="panes">
        {/* biome-ignore lint/a11y/noStaticElementInteractions: a file may be dropped; it can be chosen by a button as well */}
        <div className="pane" onDrop={drop} onDragOver={(event) => event.preventDefault()}>
          <Group gap={6} mb="xs">
            <Title order={2} size="h5">
              Answer
            </Title>
            <Samples onTake={takeSample} />
            <OpenFile onText={take} />
          </Group>
          <Editor label="answer" language="json" value={answer.doc} isDark={isDark} onChange={setAnswer} />
        </div>
        <div className="pane">
          <Group gap={6} mb="xs">
            <Title order={2} size="h5">
              Connector
            </Title>
            <Button size="compact-xs" variant="default" onClick={() => take(answer.doc.toString())}>
              Draft
            </Button>
            <Copies connector={connector} />
          </Group>
          <Editor
            label="connector lines"
            language="yaml"
            value={lines}
            isDark={isDark}
            mistake={mistake}
            onChange={write}
          />
          {mistake !== undefined && (
            <Alert color="red" variant="light" mt="xs" role="alert" title={mistake.message} p="xs">
              {mistake.hint}
            </Alert>
          )}
        </div>
        <section className="pane results" aria-label="results">
          {shown !== undefined && (
            <Results
              shown={shown}
              isWhole={isWhole}
              ms={ms}
              isOld={mistake !== undefined}
              onStream={setStream}
            />
          )}
        </section>
      </main>
    </div>
  );
}

function Scheme({ isDark }: { readonly isDark: boolean }) {
  const { setColorScheme } = useMantineColorScheme();
  return (
    <ActionIcon
      variant="default"
      ml="auto"
      aria-label={isDark ? "light colours" : "dark colours"}
      onClick={() => setColorScheme(isDark ? "light" : "dark")}
    >
      {isDark ? "☀" : "☾"}
    </ActionIcon>
  );
}

const Samples = memo(function Samples({ onTake }: { readonly onTake: (sample: Sample) => void }) {
  return (
    <Menu>
      <Menu.Target>
        <Button size="compact-xs" variant="default">
          Samples
        </Button>
      </Menu.Target>
      <Menu.Dropdown>
        {SAMPLES.map((sample) => (
          <Menu.Item key={sample.name} onClick={() => onTake(sample)}>
            {sample.name}
          </Menu.Item>
        ))}
      </Menu.Dropdown>
    </Menu>
  );
});

const OpenFile = memo(function OpenFile({ onText }: { readonly onText: (text: string) => void }) {
  return (
    <Button component="label" size="compact-xs" variant="default" tabIndex={0}>
      Open
      <input
        type="file"
        accept=".json,.har"
        className="file"
        aria-label="open a file or HAR"
        onChange={async ({ target }) => {
          const [file] = target.files ?? [];
          if (file !== undefined) onText(await file.text());
        }}
      />
    </Button>
  );
});

const Copies = memo(function Copies({ connector }: { readonly connector: string }) {
  const typescript = () => {
    try {
      return asTypeScript(connector);
    } catch {
      return connector;
    }
  };
  return (
    <>
      <CopyButton value={connector}>
        {({ copied, copy }) => (
          <Button size="compact-xs" variant="default" onClick={copy}>
            {copied ? "Copied" : "Copy YAML"}
          </Button>
        )}
      </CopyButton>
      <CopyButton value={typescript()}>
        {({ copied, copy }) => (
          <Button size="compact-xs" variant="default" onClick={copy}>
            {copied ? "Copied" : "Copy TypeScript"}
          </Button>
        )}
      </CopyButton>
    </>
  );
});

interface ResultsProps {
  readonly shown: Shown;
  readonly isWhole: boolean;
  readonly ms: number;
  /** the lines have a mistake: what is shown is from before */
  readonly isOld: boolean;
  readonly onStream: (stream: string) => void;
}

/** Drawn anew only when there is something new: typing does not wait for tables. */
const Results = memo(function Results({ shown, isWhole, ms, isOld, onStream }: ResultsProps) {
  const { received, lookedAt, leftOut, misfitCount, streams, stream, next } = shown;
  return (
    <>
      <Group gap="xs" mb="xs">
        {streams.length > 1 && (
          <Select
            size="xs"
            aria-label="stream"
            data={[...streams]}
            value={stream}
            onChange={(value) => value !== null && onStream(value)}
          />
        )}
        <Badge variant="default" tt="none" aria-live="polite">
          {received.toLocaleString("en-US")} records
        </Badge>
        {leftOut > 0 && (
          <Badge variant="default" tt="none">
            {leftOut.toLocaleString("en-US")} left out
          </Badge>
        )}
        {misfitCount > 0 && (
          <Badge color="orange" variant="filled" tt="none">
            {misfitCount.toLocaleString("en-US")} to quarantine
          </Badge>
        )}
        <Text size="xs" c="dimmed">
          {isOld
            ? "from before the mistake"
            : isWhole
              ? `${ms} ms`
              : `the first ${lookedAt}; the others follow`}
        </Text>
      </Group>
      <Text size="sm" mb="xs" component="div">
        {"request" in next ? (
          <>
            Next: <Code>{next.request}</Code>
          </>
        ) : (
          <>Nothing more is asked for: {next.end}.</>
        )}
      </Text>
      <Tabs defaultValue="tables" keepMounted={false}>
        <Tabs.List mb="sm">
          <Tabs.Tab value="tables">Tables</Tabs.Tab>
          <Tabs.Tab value="fields">Fields</Tabs.Tab>
          <Tabs.Tab value="quarantine">Quarantine</Tabs.Tab>
          <Tabs.Tab value="decisions">Where</Tabs.Tab>
        </Tabs.List>
        <Tabs.Panel value="tables">
          <Tables tables={shown.tables} />
        </Tabs.Panel>
        <Tabs.Panel value="fields">
          <Fields fields={shown.fields} />
        </Tabs.Panel>
        <Tabs.Panel value="quarantine">
          <Misfits misfits={shown.misfits} misfitCount={misfitCount} />
        </Tabs.Panel>
        <Tabs.Panel value="decisions">
          <Decisions decisions={shown.decisions} />
        </Tabs.Panel>
      </Tabs>
    </>
  );
});
