/** Who is told of alerts, whether they can be reached, and what they were told. */
import type { Message, Recipient } from "../../api/client";
import { useMessages, useRecipients, useRetryMessage, useTryRecipient } from "../../api/queries";
import { count, moment } from "../../figures";
import { styles } from "../../parts/styles";
import { Wide } from "../../parts/wide";
import { words } from "../../words";

const said = words.messages;

export function Messages({ zone }: { zone: string }) {
  const recipients = useRecipients();
  const messages = useMessages();
  if (!recipients.data) return null;
  return (
    <section aria-label={said.title} className="mt-10" data-testid="messages">
      <h2 className="border-b border-line pb-1 text-lg font-semibold">{said.title}</h2>
      {recipients.data.length === 0 ? (
        <p className="py-3 text-quiet">{said.nobody}</p>
      ) : (
        <ul>
          {recipients.data.map((recipient) => (
            <Person key={recipient.name} recipient={recipient} zone={zone} />
          ))}
        </ul>
      )}
      {messages.data && messages.data.length > 0 && <Told messages={messages.data} zone={zone} />}
    </section>
  );
}

function Person({ recipient, zone }: { recipient: Recipient; zone: string }) {
  const tried = useTryRecipient(recipient.name);
  const result = tried.data;
  return (
    <li className="flex flex-wrap items-baseline gap-x-4 gap-y-1 border-b border-line py-2" data-testid={`recipient-${recipient.name}`}>
      <span className="font-semibold">{recipient.name}</span>
      <span className="text-sm text-quiet">
        {recipient.way} · <span className="font-mono break-all">{recipient.to}</span>
      </span>
      {recipient.quiet_until ? (
        <span className="text-sm text-quiet">{said.quietUntil(moment(Date.parse(recipient.quiet_until), zone))}</span>
      ) : (
        recipient.quiet && <span className="text-sm text-quiet">{said.quiet(recipient.quiet)}</span>
      )}
      {recipient.waiting > 0 && (
        <span className={`text-sm ${recipient.failure ? "text-trouble" : "text-quiet"}`}>
          {said.waiting(recipient.waiting)}
          {recipient.failure && `: ${recipient.failure}`}
        </span>
      )}
      <span className="ml-auto flex flex-wrap items-baseline gap-3">
        {result && (
          <span role="status" className={`text-sm ${result.failure ? "text-trouble" : "text-well"}`}>
            {result.failure ?? said.arrived(count(result.took))}
          </span>
        )}
        {tried.isError && <span className="text-sm text-trouble">{tried.error.message}</span>}
        <button type="button" className={styles.button} disabled={tried.isPending} onClick={() => tried.mutate()}>
          {tried.isPending ? said.trying : said.tryIt}
        </button>
      </span>
    </li>
  );
}

function Told({ messages, zone }: { messages: Message[]; zone: string }) {
  const retry = useRetryMessage();
  return (
    <Wide name={said.told}>
      <table className="mt-4 w-full min-w-[44rem]">
        <caption className="pb-1 text-left text-sm text-quiet">{said.told}</caption>
        <thead>
          <tr className="border-b border-line text-left text-sm text-quiet">
            {said.columns.map((title) => (
              <th key={title} scope="col" className="py-1 pr-4 font-normal">
                {title}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {messages.map((message) => (
            <tr key={message.number} className="border-b border-line align-top" data-testid={`message-${message.number}`}>
              <td className="py-1 pr-4 text-sm whitespace-nowrap text-quiet">{moment(Date.parse(message.made), zone)}</td>
              <td className="py-1 pr-4">{message.recipient}</td>
              <td className="py-1 pr-4">
                <details>
                  <summary className="cursor-pointer">{message.subject}</summary>
                  <pre className="mt-1 overflow-x-auto text-sm whitespace-pre-wrap">{message.text}</pre>
                </details>
              </td>
              <td className={`py-1 pr-4 text-sm ${colourOf(message)}`}>
                {said.states[message.state] ?? message.state}
                {message.failure && <span className="block">{said.failed(message.attempts, message.failure)}</span>}
              </td>
              <td className="py-1 text-right">
                {(message.state === "given up" || (message.state === "waiting" && message.attempts > 0)) && (
                  <button type="button" className={styles.button} disabled={retry.isPending} onClick={() => retry.mutate(message.number)}>
                    {said.retry}
                  </button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </Wide>
  );
}

const colourOf = (message: Message): string =>
  message.state === "given up" || (message.state === "waiting" && message.failure) ? "text-trouble" : message.state === "delivered" ? "text-well" : "text-quiet";
