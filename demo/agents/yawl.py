"""One that speaks the Agent Client Protocol: it plans, asks for leave, and has its client read, write and run."""

import json
import os
import sys

from harbour import ask, patch_in

PATCH = "/tmp/yawl.patch"


class Client:
    """Who started this agent: JSON-RPC over standard input and output."""

    def __init__(self):
        self.last = 0

    def send(self, **message):
        print(json.dumps({"jsonrpc": "2.0", **message}), flush=True)

    def receive(self):
        line = sys.stdin.readline()
        return json.loads(line) if line else None

    def ask(self, method, **params):
        """Asks for something and waits for it; None where it is refused."""
        self.last += 1
        self.send(id=self.last, method=method, params=params)
        while (message := self.receive()) is not None:
            if message.get("id") == self.last and "method" not in message:
                return message.get("result")
        sys.exit(1)


class Session:
    """One conversation about one task."""

    def __init__(self, client, name, folder):
        self.client, self.name, self.folder = client, name, folder
        self.said = []
        self.calls = 0

    def update(self, sort, **what):
        self.client.send(method="session/update", params={"sessionId": self.name, "update": {"sessionUpdate": sort, **what}})

    def plan(self, done):
        steps = ["ask what is to be changed", "change it", "run the tests"]
        states = ["completed"] * done + ["in_progress"] * (done < 3) + ["pending"] * (2 - done)
        self.update("plan", entries=[{"content": step, "priority": "medium", "status": state} for step, state in zip(steps, states)])

    def say(self, text):
        self.update("agent_message_chunk", content={"type": "text", "text": text})

    def ask(self, method, **params):
        return self.client.ask(method, sessionId=self.name, **params)

    def read(self, path):
        answer = self.ask("fs/read_text_file", path=os.path.join(self.folder, path))
        return (answer or {}).get("content", "")

    def run(self, title, command, *arguments):
        """Runs a command in a terminal of the client's, with its leave; gives its status and output."""
        self.calls += 1
        call = {"toolCallId": f"call-{self.calls}", "title": title, "kind": "execute"}
        self.update("tool_call", status="pending", **call)
        options = [{"optionId": "yes", "name": "Run it", "kind": "allow_once"}, {"optionId": "no", "name": "Leave it", "kind": "reject_once"}]
        leave = self.ask("session/request_permission", toolCall=call, options=options)
        if leave["outcome"].get("optionId") != "yes":
            self.update("tool_call_update", toolCallId=call["toolCallId"], status="failed")
            return None, ""
        terminal = self.ask("terminal/create", command=command, args=list(arguments), cwd=self.folder)["terminalId"]
        content = [{"type": "terminal", "terminalId": terminal}]
        status = self.ask("terminal/wait_for_exit", terminalId=terminal)["exitCode"]
        output = self.ask("terminal/output", terminalId=terminal)["output"]
        self.ask("terminal/release", terminalId=terminal)
        self.update("tool_call_update", toolCallId=call["toolCallId"], status="completed" if status == 0 else "failed", content=content)
        return status, output

    def turn(self, text):
        """Does what is asked for, and says how the visible tests went."""
        self.said.append(text)
        self.plan(0)
        patch = patch_in(ask("\n\n".join(self.said)))
        self.plan(1)
        # What an earlier turn did is no part of what the model was shown.
        self.run("Begin from the start", "git", "checkout", "-q", ".")
        paths = [line[6:] for line in patch.splitlines() if line.startswith("+++ b/")]
        before = {path: self.read(path) for path in paths}
        self.ask("fs/write_text_file", path=PATCH, content=patch)
        self.run("Put the change on the files", "git", "apply", PATCH)
        for path in paths:
            self.calls += 1
            diff = {"type": "diff", "path": path, "oldText": before[path], "newText": self.read(path)}
            call = {"toolCallId": f"call-{self.calls}", "title": f"Change {path}", "kind": "edit"}
            self.update("tool_call", status="completed", content=[diff], **call)
        self.plan(2)
        if os.path.exists(os.path.join(self.folder, "package.json")):
            status, _ = self.run("Run the tests", "node", "--test")
        else:
            status, _ = self.run("Run the tests", "python3", "-m", "unittest", "discover", "-t", ".", "-s", "tests")
        self.plan(3)
        self.say("The change is made, and the visible tests " + ("pass.\n\nfinished" if status == 0 else "fail.\n\nnot finished"))


def main():
    client, sessions = Client(), {}
    while (message := client.receive()) is not None:
        method, params = message.get("method"), message.get("params", {})
        if method == "initialize":
            who = {"name": "yawl", "version": "1.0"}
            client.send(id=message["id"], result={"protocolVersion": 1, "agentCapabilities": {}, "agentInfo": who, "authMethods": []})
        elif method == "session/new":
            name = f"voyage-{len(sessions) + 1}"
            sessions[name] = Session(client, name, params["cwd"])
            client.send(id=message["id"], result={"sessionId": name})
        elif method == "session/prompt":
            sessions[params["sessionId"]].turn("".join(part.get("text", "") for part in params["prompt"]))
            client.send(id=message["id"], result={"stopReason": "end_turn"})
        elif "id" in message:
            client.send(id=message["id"], error={"code": -32601, "message": f"{method} is not known here"})


main()
