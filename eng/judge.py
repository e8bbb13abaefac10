#!/usr/bin/env -S /usr/bin/python3 -u
"""An independent implementation of AMQP 1.0, as a peer and as a client, for tests to be judged by.

  eng/judge.py peer                    listens on a free loopback port, which it prints; ends with its standard input.
                                       Keeps messages of each address, and hands them over. What comes to refuse/NAME is
                                       rejected, to release/NAME released, to modify/NAME modified, and what has more than
                                       1,000 bytes, to small/NAME, rejected; of the links of single/NAME only one is given
                                       anything, and each link of frugal/NAME has one message at a time, in either
                                       direction. What waits longer than its ttl goes to expired/ADDRESS. For each line
                                       that it reads, it prints of each address how many wait and how many are in hand,
                                       as JSON
  eng/judge.py send URL ADDRESS        sends the messages that it reads, a JSON object a line; prints each outcome
  eng/judge.py receive URL ADDRESS N   receives and accepts N messages; prints each as a JSON object

A message as JSON: "properties" (application properties), "type" (content-type), "body" (text, sent as bytes), "ttl"
(seconds).
"""
import bisect
import itertools
import json
import os
import socket
import sys
import threading
import time
from collections import defaultdict, deque

from proton import Condition, Delivery, Message, symbol
from proton.handlers import MessagingHandler
from proton.reactor import Container


class Peer(MessagingHandler):
    """A broker of the simplest kind, in memory; a message that is given back is again where it was."""

    def __init__(self):
        super().__init__(prefetch=0, auto_accept=False)
        self.waiting = defaultdict(list)
        self.numbers = itertools.count()
        self.senders = defaultdict(list)
        self.given = {}
        # What is counted is not in the middle of a move.
        self.moving = threading.Lock()

    def on_start(self, event):
        self.acceptor = event.container.listen("127.0.0.1:0")
        listening = socket.socket(fileno=os.dup(self.acceptor._selectable.fileno()))
        print(listening.getsockname()[1], flush=True)
        threading.Thread(target=self.answer, daemon=True).start()

    def answer(self):
        for _ in sys.stdin:
            with self.moving:
                counts = {address: [len(kept), 0] for address, kept in list(self.waiting.items())}
                for address, *_ in list(self.given.values()):
                    counts[address][1] += 1
            print(json.dumps(counts), flush=True)
        os._exit(0)

    def on_link_opening(self, event):
        link = event.link
        if link.is_sender:
            address = link.remote_source.address
            link.source.address = address
            self.senders[address].append(link)
            if address.startswith("missing/"):
                event.container.schedule(0, Refusal(link))
        else:
            link.target.address = link.remote_target.address

    def on_link_opened(self, event):
        if event.link.is_receiver:
            event.link.flow(1 if is_frugal(event.link.target.address) else 500)

    def on_link_closed(self, event):
        if event.link.is_sender:
            self.give_up(lambda link: link == event.link)
            self.give(event.link.source.address)

    def on_session_closing(self, event):
        self.give_up(lambda link: link.session == event.session)
        for address in list(self.senders):
            self.give(address)

    def on_disconnected(self, event):
        self.give_up(lambda link: link.connection == event.connection)

    def give_up(self, is_over):
        for senders in self.senders.values():
            senders[:] = [sender for sender in senders if not is_over(sender)]
        for delivery, (_, _, _, sender) in list(self.given.items()):
            if is_over(sender):
                self.come_back(delivery)

    def come_back(self, delivery, failed=False):
        with self.moving:
            address, number, message, _ = self.given.pop(delivery)
            message.first_acquirer = False
            message.delivery_count += 1 if failed else 0
            self.keep(address, number, message)
        self.give(address)

    def keep(self, address, number, message):
        if not hasattr(message, "until"):
            message.until = time.monotonic() + message.ttl if message.ttl else float("inf")
        bisect.insort(self.waiting[address], (number, message), key=lambda kept: kept[0])

    def expire(self, address):
        with self.moving:
            kept, now = self.waiting[address], time.monotonic()
            over = [(number, message) for number, message in kept if message.until <= now]
            kept[:] = [(number, message) for number, message in kept if message.until > now]
            for number, message in over:
                message.until = float("inf")
                self.keep("expired/" + address, number, message)

    def on_message(self, event):
        address, delivery = event.link.target.address, event.delivery
        kind = address.split("/")[0]
        if kind == "refuse":
            delivery.local.condition = Condition("amqp:precondition-failed", "the judge refuses it")
            delivery.update(Delivery.REJECTED)
        elif kind == "release":
            delivery.update(Delivery.RELEASED)
        elif kind == "modify":
            delivery.local.failed = True
            delivery.update(Delivery.MODIFIED)
        elif kind == "small" and len(event.message.body or b"") > 1000:
            delivery.local.condition = Condition("amqp:link:message-size-exceeded", "more than 1000 bytes")
            delivery.update(Delivery.REJECTED)
        else:
            event.message.first_acquirer = True
            self.keep(address, next(self.numbers), event.message)
            delivery.update(Delivery.ACCEPTED)
            self.give(address)
        delivery.settle()
        event.link.flow(1)

    def on_sendable(self, event):
        self.give(event.link.source.address)

    def on_link_flow(self, event):
        if event.link.is_sender:
            self.give(event.link.source.address)
            event.link.offered(len(self.waiting[event.link.source.address]))
            if event.link.drain_mode:
                event.link.drained()

    def give(self, address):
        # Of those of single/NAME only the first is given anything.
        self.expire(address)
        for sender in self.senders[address][:1 if address.startswith("single/") else None]:
            while sender.credit > 0 and self.waiting[address] and not (is_frugal(address) and self.has_one(sender)):
                with self.moving:
                    number, message = self.waiting[address].pop(0)
                    self.given[sender.send(message)] = (address, number, message, sender)

    def has_one(self, sender):
        return any(of == sender for _, _, _, of in self.given.values())

    def on_accepted(self, event):
        if (gone := self.given.pop(event.delivery, None)) and is_frugal(gone[0]):
            self.give(gone[0])

    def on_rejected(self, event):
        address, number, message, _ = self.given.pop(event.delivery)
        self.keep("rejected/" + address, number, message)
        self.give("rejected/" + address)
        self.give(address)

    def on_released(self, event):
        is_modified = event.delivery.remote_state == Delivery.MODIFIED
        self.come_back(event.delivery, failed=is_modified and event.delivery.remote.failed)


def is_frugal(address):
    return address.startswith("frugal/")


class Refusal(MessagingHandler):
    """Refuses a link once it is attached."""

    def __init__(self, link):
        super().__init__()
        self.link = link

    def on_timer_task(self, event):
        self.link.condition = Condition("amqp:not-found", f"there is no {self.link.source.address}")
        self.link.close()


class Sender(MessagingHandler):
    def __init__(self, url, address, messages):
        super().__init__()
        self.url, self.address, self.messages, self.left = url, address, deque(messages), len(messages)

    def on_start(self, event):
        event.container.create_sender(event.container.connect(self.url, reconnect=False), self.address)

    def on_sendable(self, event):
        while event.sender.credit > 0 and self.messages:
            event.sender.send(as_message(json.loads(self.messages.popleft())))

    def on_accepted(self, event):
        self.done(event, "accepted")

    def on_rejected(self, event):
        self.done(event, "rejected")

    def on_released(self, event):
        self.done(event, "released")

    def done(self, event, outcome):
        print(outcome, flush=True)
        self.left -= 1
        if self.left == 0:
            event.connection.close()


class Receiver(MessagingHandler):
    def __init__(self, url, address, count):
        super().__init__(prefetch=count)
        self.url, self.address, self.left = url, address, count

    def on_start(self, event):
        event.container.create_receiver(event.container.connect(self.url, reconnect=False), self.address)

    def on_message(self, event):
        print(json.dumps(as_json(event.message)), flush=True)
        self.left -= 1
        if self.left == 0:
            event.receiver.close()
            event.connection.close()


def as_message(said):
    return Message(
        body=said["body"].encode(), inferred=True, durable=True, properties=said.get("properties"),
        ttl=said.get("ttl", 0), content_type=symbol(said["type"]) if "type" in said else None)


def as_json(message):
    body = message.body
    return {
        "properties": {k: v if isinstance(v, (bool, int)) else str(v) for k, v in (message.properties or {}).items()},
        "type": str(message.content_type), "durable": message.durable,
        "body": bytes(body).decode() if isinstance(body, (bytes, memoryview)) else repr(body)}


def main(arguments):
    if arguments[:1] == ["peer"]:
        Container(Peer()).run()
    elif arguments[:1] == ["send"]:
        Container(Sender(*arguments[1:], sys.stdin.read().splitlines())).run()
    elif arguments[:1] == ["receive"]:
        Container(Receiver(arguments[1], arguments[2], int(arguments[3]))).run()
    else:
        print(__doc__.strip(), file=sys.stderr)
        return 2
    return 0


sys.exit(main(sys.argv[1:]))
