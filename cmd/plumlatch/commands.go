package main

import "plumlatch/core/access"

// commands are all commands, in the order that help shows them in.
var commands []command

// keyEnds tells apart, in the help, the ways in which a key comes to an end.
const keyEnds = `

  What                    new launches  opens what it opened  in the ledger
  key retire              refused       still                 yes, as retired
  key use-again           taken again   still                 yes
  key forget              -             it must open nothing  no
  instance remove         -             the instance is gone  yes`

func init() { // help walks the table that its own functions stand in
	commands = []command{
		{"key create", "NAME [options]", "Make a key pair on this machine and record its public half.", "plumlatch key create night-crew", keyCreate},
		{"key import", "NAME FILE|- [options]", "Record the public half of a pair that exists.", "plumlatch key import harbour-ops ops.pub", keyImport},
		{"key list", "[options]", "List the recorded keys.", "plumlatch key list -sort reach", keyList},
		{"key show", "NAME [options]", "Show one key, and what it opens.", "plumlatch key show night-crew", keyShow},
		{"key note", "NAME TEXT", "Write a note to a key.", "plumlatch key note night-crew 'shared by the night shift'", keyNote},
		{"key set", "NAME [options]", "Set who holds a key, where it is kept, where it came from.", "plumlatch key set night-crew -holder night-crew -kept-at 'the safe on the bridge'", keySet},
		{"key rename", "NAME NEW-NAME", "Give a key another name; its accesses stay.", "plumlatch key rename night-crew night-crew-2026", keyRename},
		{"key prove", "NAME -identity FILE | -agent", "Show that a key's private half exists, by signing a challenge.", "plumlatch key prove night-crew -identity ~/.ssh/night-crew", keyProve},
		{"key retire", "NAME", "Take a key out of new launches." + keyEnds, "plumlatch key retire old-gate-contractor", retireCommand(true)},
		{"key use-again", "NAME", "Let new launches take a retired key again." + keyEnds, "plumlatch key use-again night-crew", retireCommand(false)},
		{"key forget", "NAME [options]", "Take a key that opens nothing out of the ledger." + keyEnds, "plumlatch key forget night-crew -yes", keyForget},
		{"key check", "FILE...|DIR [options]", "Tell what key files are, what is wrong with them, and what they open.", "plumlatch key check ~/.ssh", keyCheck},
		{"key convert", "FILE -format F -out FILE|-", "Write a key in another format, or with another passphrase.", "plumlatch key convert old.ppk -format openssh -out ~/.ssh/old", keyConvert},
		{"key public", "FILE [options]", "Print the public half of a private file.", "plumlatch key public ~/.ssh/night-crew", keyPublic},
		{"key export", "NAME [options]", "Print the recorded public half of a key.", "plumlatch key export night-crew -format rfc4716", keyExport},

		{"key lost", "NAME [options]", "Record that nobody has a key's private half, and see what follows.", "plumlatch key lost night-crew -reason 'the laptop went overboard'", badDay(access.Lost)},
		{"key exposed", "NAME [options]", "Record that somebody else may have a key's private half, and see what follows.", "plumlatch key exposed old-gate-contractor -plan", badDay(access.Exposed)},
		{"key found", "NAME [options]", "Take back that a key is lost.", "plumlatch key found night-crew", badDay(access.InUse)},

		{"holder list", "[options]", "List who holds keys.", "plumlatch holder list", holderList},
		{"holder add", "NAME [-sort SORT]", "Record a person, team, machine or job that holds keys.", "plumlatch holder add night-crew -sort team", holderAdd},

		{"holder set", "NAME [options]", "Put a holder into a team, or take the holder out of one.", "plumlatch holder set skerry-watch -join harbour-ops", holderSet},
		{"holder left", "NAME [options]", "Record that a holder left: what the holder had counts as exposed.", "plumlatch holder left gate-contractor -plan", holderLeft},

		{"instance launch", "NAME -image I -size S -region R -key K,K [options]", "Launch an instance that opens with the named keys.", "plumlatch instance launch berth-board-9 -image debian-12 -size small -region north-pier -key night-crew,harbour-ops -tag line=north", instanceLaunch},
		{"instance adopt", "NAME -address A -identity FILE|-agent [options]  |  -batch FILE", "Bring an instance in that is there already.", "plumlatch instance adopt old-berth-1 -address 192.0.2.17 -user debian -identity ~/.ssh/harbour-ops", instanceAdopt},
		{"instance list", "[options]", "List the instances.", "plumlatch instance list -region north-pier", instanceList},
		{"instance show", "NAME [options]", "Show one instance, and what opens it.", "plumlatch instance show berth-board-1", instanceShow},
		{"instance stop", "NAME [options]", "Stop an instance; it keeps its root volume.", "plumlatch instance stop berth-board-9", changeCommand("stop")},
		{"instance start", "NAME [options]", "Start a stopped instance; its address changes, unless it is a static one.", "plumlatch instance start berth-board-9", changeCommand("start")},
		{"instance remove", "NAME [options]", "Remove an instance and its root volume, for good; forget an adopted one.", "plumlatch instance remove berth-board-9 -yes", changeCommand("remove")},

		{"instance rules", "NAME [options]", "Show whom the inbound rules let in to its SSH port, since when and until when.", "plumlatch instance rules berth-board-1", instanceRules},
		{"instance admit", "NAME -from CIDR|me [-for TIME] [options]", "Let an address range in to its SSH port, for a while or for good.", "plumlatch instance admit berth-board-1 -from me -for 30m", instanceAdmit},
		{"instance unadmit", "NAME -from CIDR|me [options]", "Withdraw an inbound rule; never the last one that people come in by.", "plumlatch instance unadmit berth-board-1 -from me", instanceUnadmit},
		{"instance steward-key", "NAME", "Replace the service's own key on an instance now; it does so by itself at the policy's age (steward.age).", "plumlatch instance steward-key berth-board-1", instanceSteward},
		{"instance host-key", "NAME [-accept FINGERPRINT | -from-boot-log] [options]", "Compare the recorded host key with what answers; take a new one on purpose.", "plumlatch instance host-key berth-board-1", instanceHostKey},
		{"instance boot-log", "NAME [options]", "Print what an instance wrote on its console, made safe for the terminal.", "plumlatch instance boot-log berth-board-1 -lines 20", instanceBootLog},
		{"instance refresh", "NAME [options]", "Ask the cloud for its state and address now, and take them down.", "plumlatch instance refresh berth-board-1", instanceRefresh},

		{"instance discover", "[options]", "Set the cloud's list of instances against the ledger's.", "plumlatch instance discover", instanceDiscover},
		{"instance probing", "NAME yes|no", "Say whether the service may ask an instance from outside by itself.", "plumlatch instance probing old-berth-1 yes", instanceProbing},

		{"instance check", "add|remove NAME CHECK, or list NAME", "Say what \"works\" means for an instance: tcp:PORT, http://:PORT/PATH. A restore runs it.", "plumlatch instance check add berth-board-1 http://:7080/health", instanceCheck},
		{"instance rescue", "NAME yes|no [-yes]", "Say that an instance may rescue others of its zone; shows the line that each rescue places there.", "plumlatch instance rescue dock-spare-1 yes", instanceRescue},

		{"static-address list", "[options]", "List the addresses that stay, and who has them.", "plumlatch static-address list", staticList},
		{"static-address reserve", "NAME -region REGION", "Reserve an address that stays.", "plumlatch static-address reserve board-front -region north-pier", staticReserve},
		{"static-address move", "NAME [-to INSTANCE]", "Give a static address to an instance, or take it from whoever has it.", "plumlatch static-address move board-front -to berth-board-1", staticMove},
		{"static-address release", "NAME [options]", "Give a static address back, for good.", "plumlatch static-address release board-front -yes", staticRelease},

		{"image list", "[options]", "List the images that a launch can use.", "plumlatch image list", imageList},
		{"size list", "[options]", "List the sizes that a launch can use.", "plumlatch size list", sizeList},
		{"region list", "[options]", "List the regions that a launch can use.", "plumlatch region list", regionList},

		{"hosts write", "[options]", "Write your instances for plain ssh, scp and rsync: ssh NAME works then.", "plumlatch hosts write", hostsWrite},
		{"hosts print", "[options]", "Print what hosts write would write.", "plumlatch hosts print", hostsPrint},
		{"why", "INSTANCE [-identity FILE | -agent] [-user USER] [options]", "Tell why one cannot get in: from outside to inside, what is wrong first, and what mends it.", "plumlatch why berth-board-1 -identity ~/.ssh/night-crew", whyCommand},
		{"rotate", "INSTANCE | -key OLD | -tag TAG | -due | -exposed KEY [-old KEY] [-new KEY [-identity FILE|-agent]] [-grace 24h|0] [options]", "Put a new key in the place of an old one: new key in, shown to work, old key out." + rotateEnds, "plumlatch rotate berth-board-1 -old day-crew -grace 24h", rotate},
		{"restore", "INSTANCE | -all -lost KEY [-go | -route ROUTE [-new KEY [-identity FILE|-agent]]] [options]", "Get back into an instance whose private keys are gone: compare the ways, and carry one out." + restoreHelp, "plumlatch restore berth-board-1 -go", restore},
		{"restore ready", "[-tag TAG] [options]", "Tell, of every instance, which ways back in are open today, before anything is lost.", "plumlatch restore ready -tag env=prod", restoreReady},
		{"restore grant", "ID [-identity FILE | -agent] [options]", "Let a new key into an instance that your own still opens, for a restore that waits for it.", "plumlatch restore grant 41 -identity ~/.ssh/night-crew", restoreGrant},
		{"open", "INSTANCE [options] [-- COMMAND ...]", "Log in with this machine's own ssh: right address, port, user, file and host key.", "plumlatch open berth-board-9 -- hostname", open},
		{"today", "[options]", "Tell what needs a hand, most urgent first, and what mends it.", "plumlatch today -urgency now", today},
		{"access list", "[options]", "List which key opens which instance, and how that is known.", "plumlatch access list -holder night-crew -region north-pier -csv", accessList},
		{"who", "INSTANCE [options]", "Tell who can open an instance: people, keys, how that is known, since when.", "plumlatch who berth-board-1", who},
		{"opens", "KEY|FILE|FINGERPRINT [options]", "Tell what a key opens, by whatever names it.\n\n  A word is taken for the first of these that it is: a pasted public line; a\n  fingerprint (SHA256 or MD5); a file; the name of a recorded key. A word that\n  is a file and a name, of two keys, is refused: ./NAME is always the file.", "plumlatch opens ~/.ssh/old-key", opens},
		{"access add", "INSTANCE | -tag TAG -key KEY [-for 8h | -until TIME] [options]", "Let a key open an instance besides those that do, until an end that its server keeps.", "plumlatch access add ticket-gate-2 -key gate-contractor -for 8h -reason 'mends the barrier'", accessAdd},
		{"access second", "-key KEY -tag TAG | -all [options]", "Add a second key wherever one person's key is the only way in.", "plumlatch access second -key night-crew -tag role=gate -plan", accessSecond},
		{"access extend", "INSTANCE -key KEY -for 8h | -until TIME", "Give a shared access another end.", "plumlatch access extend ticket-gate-2 -key gate-contractor -for 24h", accessExtend},
		{"access remove", "INSTANCE -key KEY | -everywhere -key KEY | -holder NAME [options]", "Withdraw a key from an instance, or wherever it opens, or all that somebody had; never the last one that people get in by.", "plumlatch access remove ticket-gate-2 -key old-gate-contractor", accessRemove},
		{"access record", "INSTANCE KEY|FINGERPRINT [options]", "Write down that a key that a survey found opens an instance.", "plumlatch access record ticket-gate-2 SHA256:... -as gate-fitters", accessRecord},
		{"survey", "INSTANCE...|-tag T|-region R|-all [options]", "Find out what really opens an instance, and compare it with the ledger.", "plumlatch survey berth-board-1 -inside -outside", survey},

		{"policy show", "[options]", "Print the policy: how often the service looks, and what needs a hand.", "plumlatch policy show", policyShow},
		{"policy check", "FILE", "Tell whether a file is a policy.", "plumlatch policy check policy.yaml", policyCommand(false)},
		{"policy set", "FILE", "Set the policy.", "plumlatch policy set policy.yaml", policyCommand(true)},

		{"work list", "[options]", "List the work that is at hand, and that was.", "plumlatch work list -state open", workList},
		{"work show", "ID [options]", "Show one piece of work, step by step.", "plumlatch work show 12", workShow},
		{"work follow", "ID [options]", "Follow a piece of work to its end, live.", "plumlatch work follow 12", workFollow},
		{"work cancel", "ID [options]", "Have a piece of work take back what it did.", "plumlatch work cancel 12", workCancel},
		{"work report", "ID [-out FILE] [options]", "Tell what is to be known of a restore: what was lost, which way, each step, downtime, what is left.", "plumlatch work report 41 -out restore.md", workReport},
		{"work word", "ID [-identity FILE | -agent]", "Let large work begin, where the policy asks for a second operator's word or a signature.", "plumlatch work word 12", workWord},
		{"work retry", "ID [options]", "Take up again what failed, was cancelled or is stuck.", "plumlatch work retry 12", workRetry},

		{"operator list", "[options]", "List who uses this service.", "plumlatch operator list", operatorList},
		{"operator add", "NAME -role ROLE [options]", "Add an operator; the password is shown once.", "plumlatch operator add quay-lead -role operator", operatorAdd},
		{"operator role", "NAME ROLE", "Give an operator another role; its sessions end.", "plumlatch operator role quay-lead viewer", operatorRole},
		{"operator key", "NAME -add KEY | -remove KEY", "Say whose SSH signature is an operator's word for large work.", "plumlatch operator key quay-lead -add quay-desk", operatorKey},
		{"operator disable", "NAME", "Shut an operator and its tokens out.", "plumlatch operator disable quay-lead", operatorAble(true)},
		{"operator enable", "NAME", "Let a disabled operator in again.", "plumlatch operator enable quay-lead", operatorAble(false)},

		{"token list", "[options]", "List your tokens; for an admin, everybody's.", "plumlatch token list", tokenList},
		{"token create", "NAME [-role ROLE] [-for TIME | -until TIME] [options]", "Make a token of your own; it is shown once.", "plumlatch token create night-report -role viewer -for 720h", tokenCreate},
		{"token revoke", "ID", "End a token now.", "plumlatch token revoke 3", tokenRevoke},

		{"journal list", "[options]", "Show who did what, the newest first.", "plumlatch journal list -target 'instance berth-board-1'", journalList},
		{"journal verify", "[options]", "Compute the chain of the journal on this machine, and tell what was changed behind it.", "plumlatch journal verify", journalVerify},
		{"journal export", "-out FILE|-", "Write the whole journal with its chain and signed heads, one JSON object a line.", "plumlatch journal export -out journal.jsonl", journalExport},
		{"whoami", "[options]", "Show whose token this is, and the role it has.", "plumlatch whoami", whoami},

		{"version", "", "Say what this program was built from.", "plumlatch version", version},
		{"completion", "bash|zsh|fish", "Print what completes commands and options in a shell.", "plumlatch completion bash > ~/.local/share/bash-completion/completions/plumlatch", completion},
		{"manual", "", "Print the manual page of all commands.", "plumlatch manual | man -l -", manual},
	}
}
