/* The rotation of one instance, as service/work carries it out, small enough to
 * look at every order of events: two replicas of the service (one may be ended or
 * stopped at any step, and the other goes on), a server whose answers may be lost,
 * a holder who may or may not show the private half, a client that lies about a
 * login, another writer of the same file, people who set marks and change names,
 * and a second change on the same instance, which withdraws a third key.
 *
 * Checked by "make model":
 *   safety    no write of ours, forwards or back, takes the last way in
 *   liveness  the work always ends: done, gone back, or stuck and said so
 * and for each guard, that spin finds what breaks once it is taken out.
 *
 * What is left out: the bytes of the file (core/authkeys is tested and fuzzed
 * for those), and the one round trip between the last look and the rename, which
 * docs/safety.md does not promise: look and rename are one step here.
 */

/* of the old key's line; what is next; a server's answer */
mtype = { FREE, ENDED, GONE,
           ADD, ACCEPT, PROOF, NARROW, CHECK, GRACE, WITHDRAW,
          BACK_NARROW, BACK_ADD, DONE, BACK, BOTH, STUCK,
          YES, NO, NONE };

mtype old = FREE;          /* in the file */
bool  fresh = false;       /* the new key's line is in the file */
bool  third = false;       /* a third person's key is in the file */
bool  there = true;        /* the instance exists and can be reached */

mtype step = ADD;          /* durable */
bool  touched = false;     /* we may have narrowed the old key: durable, before the edit */

/* What is true of the private halves, which nobody of ours can see; and what was
 * shown of them by a signature. The third key's was shown. */
bool  old_half, new_half;
bool  old_shown, new_shown = false;
bool  word = false;        /* a client says that it has logged in with the new key */

/* What people say of the keys: a person's, and in use. */
bool  old_counts = true, new_counts = true, third_counts = true;
bool  old_was = true;      /* when the work began */
bool  old_named = true;    /* the name that the work was asked for with is the old key's still */

/* A permit of the guard holds: marks wait for it. One that was given to a replica
 * which has lost the claim holds no more. */
byte  permit = 0;
/* Others' writes of the file, and how many there were when the guard judged it: the
 * edit compares the file with what was judged right before it replaces it. */
byte  writes = 0, judged = 0;

byte  claim = 0;           /* which replica has the rotation */
byte  holding = 0;         /* which work holds the instance: 1 the rotation, 2 the other */
bool  before;              /* there was a way in before a write */
byte  crashes = 1, lost = 1, meddling = 1, marking = 1;

#define OVER   (step == DONE || step == BACK || step == BOTH || step == STUCK)
#define WAY    ((old == FREE && old_counts && old_half) || (fresh && new_counts && new_half) || (third && third_counts))

/* The guard, on the file as it is, for each key that may be taken. */
#define SHOWN        (new_shown)
#define OTHER_NEW    (fresh && new_counts && SHOWN)
#define OTHER_OLD    (old == FREE && old_counts && old_shown)
#define OTHER_THIRD  (third && third_counts)
#define GUARDED_OLD  (old_counts || old_was)
#define LEFT_OLD     (fresh || third)
#define TAKE_OLD     (LEFT_OLD && (!GUARDED_OLD || OTHER_NEW || OTHER_THIRD))
#define TAKE_NEW     ((OTHER_OLD || OTHER_THIRD))
#define TAKE_THIRD   ((OTHER_OLD || OTHER_NEW))
#define CONFIRM(who) (permit == who)
#define MARKS_WAIT   (permit == 0)
#define SAME_FILE    (writes == judged)

/* The server answers by what stands in the file, or the answer is lost. */
inline ask(key, answer) {
    if
    :: lost > 0 -> lost--; answer = NONE
    :: !there -> answer = NONE
    :: there && (key) -> answer = YES
    :: there && !(key) -> answer = NO
    fi
}

/* A step's end is written only by who has the claim (the fence). */
#define MOVE(to)     atomic { if :: claim == _pid -> step = to :: else -> skip fi }
/* Every write of ours is looked at for what it leaves; one that only adds or widens
 * needs no permit. */
#define ADDS(what)   atomic { if :: there && claim == _pid -> what :: else -> skip fi }
#define TAKES(who, still, what) atomic { if :: there && CONFIRM(who) && SAME_FILE && (still) -> before = WAY; what; permit = 0; assert(!before || WAY) :: else -> permit = (permit == who -> 0 : permit) fi }
#define JUDGE(who, may)         atomic { if :: permit == 0 && (may) -> permit = who; judged = writes :: else -> skip fi }

proctype replica() {
    mtype answer;
    byte tries;
again:
    do
    :: OVER -> break
    :: !OVER && claim == _pid && (holding == 1 || holding == 0) ->
        atomic { if :: holding == 0 && step != GRACE -> holding = 1 :: else -> skip fi }
        /* It may be ended here, or after an effect and before that is written:
         * then the other has the claim, and does the same step again. A permit of
         * the dead one runs out. */
        if
        :: crashes > 0 -> atomic { crashes--; claim = 3 - _pid; permit = (permit == _pid -> 0 : permit) }; goto again
        :: true
        fi;
        if
        :: step == ADD ->
            if
            :: there -> ADDS(fresh = true); MOVE(ACCEPT)
            :: !there -> MOVE(BACK)
            fi
        :: step == ACCEPT ->
            ask(fresh, answer);
            if
            :: answer == YES -> MOVE(PROOF)
            :: answer == NO -> MOVE(BACK_ADD)
            :: answer == NONE -> if :: tries < 2 -> tries++ :: true -> MOVE(BACK_ADD) fi
            fi
        :: step == PROOF ->
            if
            :: SHOWN -> MOVE(NARROW)
            :: !SHOWN -> MOVE(BACK_ADD)          /* the end of its wait */
            fi
        :: step == NARROW ->
            /* Asked again unless the answer is fresh; the guard judges what the file
             * says, and it is replaced if everything is still so. */
            ask(fresh, answer);
            if
            :: answer == YES ->
                touched = true;
                JUDGE(_pid, fresh && TAKE_OLD && old == FREE);
                TAKES(_pid, claim == _pid && fresh && old == FREE, old = ENDED);
                if
                :: old == ENDED && fresh -> MOVE(CHECK)
                :: else -> MOVE(BACK_NARROW)
                fi
            :: answer == NO -> MOVE(BACK_NARROW)
            :: answer == NONE -> if :: tries < 3 -> tries++ :: true -> MOVE(BACK_NARROW) fi
            fi
        :: step == CHECK ->
            ask(fresh, answer);
            if
            :: answer == YES -> atomic { MOVE(GRACE); holding = 0 }
            :: answer == NO -> MOVE(BACK_NARROW)
            :: answer == NONE -> if :: tries < 4 -> tries++ :: true -> MOVE(BACK_NARROW) fi
            fi
        :: step == GRACE ->                              /* it holds no instance */
            if
            :: true -> MOVE(WITHDRAW)                    /* its end has come */
            :: true -> MOVE(BACK_NARROW)                 /* somebody cancelled */
            fi
        :: step == WITHDRAW ->
            ask(fresh, answer);
            if
            :: answer == YES ->
                JUDGE(_pid, fresh && TAKE_OLD && old != GONE);
                TAKES(_pid, claim == _pid && fresh && old != GONE, old = GONE);
                MOVE(DONE)
            :: answer != YES -> if :: tries < 5 -> tries++ :: true -> MOVE(DONE) fi  /* said to be in trouble: the old key has ended, its line stays */
            fi
        :: step == BACK_NARROW ->
            if
            :: !there -> MOVE(BACK_ADD)
            :: there ->
                if
                :: touched && old == ENDED -> ADDS(old = FREE)
                :: else -> skip
                fi;
                MOVE(BACK_ADD)
            fi
        :: step == BACK_ADD ->
            /* Going back is a change too: our line goes out only if the guard permits
             * that; else both stay. */
            ask(old == FREE, answer);
            if
            :: !there -> MOVE(BACK)
            :: there && answer != NONE ->
                JUDGE(_pid, fresh && TAKE_NEW);
                TAKES(_pid, claim == _pid && fresh, fresh = false);
                if
                :: fresh -> MOVE(BOTH)
                :: !fresh -> MOVE(BACK)
                fi
            :: there && answer == NONE -> if :: tries < 6 -> tries++ :: true -> MOVE(STUCK) fi
            fi
        :: OVER -> skip
        fi;
        atomic { if :: OVER && holding == 1 -> holding = 0 :: else -> skip fi }
    od
}

/* The second change: it withdraws the third key, if the guard permits it, while
 * the rotation waits or before it begins. */
proctype second() {
    if
    :: holding == 0 && third ->
        atomic { if :: holding == 0 -> holding = 2 :: else -> goto done fi };
        JUDGE(4, third && TAKE_THIRD);
        TAKES(4, third, third = false);
        atomic { holding = 0 };
    :: true
    fi;
done:
    skip
}

/* The holder may show the private half, if it exists, once the new key is in. */
proctype holder() {
    if
    :: new_half -> new_shown = true
    :: true
    fi
}

/* People mark keys, and change their names. A mark waits for a permit. */
proctype people() {
    do
    :: marking > 0 ->
        marking--;
        if
        :: atomic { MARKS_WAIT -> old_counts = false }
        :: atomic { MARKS_WAIT -> new_counts = false }
        :: atomic { MARKS_WAIT -> third_counts = false }
        fi
    :: old_named -> old_named = false       /* a name waits for nothing: nothing goes by it */
    :: true -> break
    od
}

/* Somebody else edits the same file, and may take out a line, or put the old one
 * back; and the instance may be removed. */
proctype other() {
    do
    :: meddling > 0 && there ->
        meddling--;
        atomic {
            writes++;
            if
            :: fresh = false
            :: old = GONE
            :: old = FREE
            :: third = false
            :: there = false
            fi
        }
    :: true -> break
    od
}

init {
    atomic {
        if :: old_half = true :: old_half = false fi;
        if :: old_half -> old_shown = true :: old_shown = false fi;
        if :: new_half = true :: new_half = false fi;
        if :: third = true :: third = false fi;
        /* A client may say that it has logged in, whether or not it has. */
        if :: word = true :: word = false fi;
        claim = 1;
        run replica(); run replica(); run second(); run holder(); run people(); run other()
    }
}

ltl ends { <> OVER }
