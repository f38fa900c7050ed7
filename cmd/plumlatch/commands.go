package main

// commands are all commands, in the order that help shows them in.
var commands []command

func init() { // help walks the table that its own functions stand in
	commands = []command{
		{"key create", "NAME [options]", "Make a key pair on this machine and record its public half.", "plumlatch key create night-crew", keyCreate},
		{"key import", "NAME FILE|- [options]", "Record the public half of a pair that exists.", "plumlatch key import harbour-ops ops.pub", keyImport},
		{"key list", "[options]", "List the recorded keys.", "plumlatch key list -sort reach", keyList},
		{"key show", "NAME [options]", "Show one key, and what it opens.", "plumlatch key show night-crew", keyShow},

		{"instance launch", "NAME -image I -size S -region R -key K,K [options]", "Launch an instance that opens with the named keys.", "plumlatch instance launch berth-board-9 -image debian-12 -size small -region north-pier -key night-crew,harbour-ops", instanceLaunch},
		{"instance list", "[options]", "List the instances.", "plumlatch instance list -region north-pier", instanceList},
		{"instance show", "NAME [options]", "Show one instance, and what opens it.", "plumlatch instance show berth-board-1", instanceShow},
		{"instance stop", "NAME [options]", "Stop an instance; it keeps its root volume.", "plumlatch instance stop berth-board-9", changeCommand("stop")},
		{"instance start", "NAME [options]", "Start a stopped instance; its address changes.", "plumlatch instance start berth-board-9", changeCommand("start")},
		{"instance remove", "NAME [options]", "Remove an instance and its root volume, for good.", "plumlatch instance remove berth-board-9 -yes", changeCommand("remove")},

		{"image list", "[options]", "List the images that a launch can use.", "plumlatch image list", imageList},
		{"size list", "[options]", "List the sizes that a launch can use.", "plumlatch size list", sizeList},
		{"region list", "[options]", "List the regions that a launch can use.", "plumlatch region list", regionList},

		{"open", "INSTANCE [options] [-- COMMAND ...]", "Log in with this machine's own ssh: right address, port, user, file and host key.", "plumlatch open berth-board-9 -- hostname", open},
		{"access list", "[-instance NAME] [-key NAME] [options]", "List which key opens which instance, and how that is known.", "plumlatch access list -instance berth-board-1", accessList},

		{"operator list", "[options]", "List who uses this service.", "plumlatch operator list", operatorList},
		{"operator add", "NAME -role ROLE [options]", "Add an operator; the password is shown once.", "plumlatch operator add quay-lead -role operator", operatorAdd},
		{"operator role", "NAME ROLE", "Give an operator another role; its sessions end.", "plumlatch operator role quay-lead viewer", operatorRole},
		{"operator disable", "NAME", "Shut an operator and its tokens out.", "plumlatch operator disable quay-lead", operatorAble(true)},
		{"operator enable", "NAME", "Let a disabled operator in again.", "plumlatch operator enable quay-lead", operatorAble(false)},

		{"token list", "[options]", "List your tokens; for an admin, everybody's.", "plumlatch token list", tokenList},
		{"token create", "NAME [-role ROLE] [-for TIME | -until TIME] [options]", "Make a token of your own; it is shown once.", "plumlatch token create night-report -role viewer -for 720h", tokenCreate},
		{"token revoke", "ID", "End a token now.", "plumlatch token revoke 3", tokenRevoke},

		{"journal list", "[options]", "Show who did what, the newest first.", "plumlatch journal list -target 'instance berth-board-1'", journalList},
		{"whoami", "[options]", "Show whose token this is, and the role it has.", "plumlatch whoami", whoami},
	}
}
