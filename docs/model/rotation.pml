/* The rotation of one instance, as service/work/rotatesteps.go carries it out,
 * small enough to look at every order of events: two replicas of the service
 * (one may be ended or stopped at any step, and the other goes on), a server
 * whose answers may be lost, a holder who may or may not show the private half,
 * and another writer of the same file.
 *
 * Checked by "make model":
 *   safety    no write of ours takes the last way in that was shown to work
 *   liveness  the work always ends: done, gone back, or stuck and said so
 *
 * What is left out: the bytes of the file (core/authkeys is tested and fuzzed
 * for those), and the one round trip between the last look and the rename, which
 * docs/safety.md does not promise: look and rename are one step here.
 */

/* of the old key's line; what is next; a server's answer */
mtype = { FREE, ENDED, GONE,
           ADD, ACCEPT, PROOF, NARROW, CHECK, GRACE, WITHDRAW,
          BACK_NARROW, BACK_ADD, DONE, BACK, STUCK,
          YES, NO, NONE };

mtype old = FREE;          /* in the file */
bool  fresh = false;       /* the new key's line is in the file */
bool  there = true;        /* the instance exists and can be reached */

mtype step = ADD;          /* durable */
bool  accepted = false;    /* the new key, after the last write of ours: durable */
bool  shown = false;       /* its private half */
bool  touched = false;     /* we may have narrowed the old key: durable, before the edit */

byte  claim = 0;           /* which replica has the work */
bool  before;              /* there was a way in before a write */
byte  crashes = 2, lost = 2, meddling = 2;

#define OVER   (step == DONE || step == BACK || step == STUCK)
#define WAY    (old == FREE || (fresh && shown))

/* The server answers by what stands in the file, or the answer is lost. */
inline ask(key, answer) {
    if
    :: lost > 0 -> lost--; answer = NONE
    :: !there -> answer = NONE
    :: there && (key) -> answer = YES
    :: there && !(key) -> answer = NO
    fi
}

/* A step's end is written only by who has the claim (the fence); every write of
 * ours to the file is checked for what it leaves. */
#define MOVE(to)     atomic { if :: claim == _pid -> step = to :: else -> skip fi }
#define WRITE(what)  atomic { if :: there && claim == _pid -> before = WAY; what; accepted = false; assert(!before || WAY) :: else -> skip fi }

proctype replica() {
    mtype answer;
    byte tries;
again:
    do
    :: OVER -> break
    :: !OVER && claim == _pid ->
        /* It may be ended here, or after an effect and before that is written:
         * then the other has the claim, and does the same step again. */
        if
        :: crashes > 0 -> atomic { crashes--; claim = 3 - _pid }; goto again
        :: true
        fi;
        if
        :: step == ADD ->
            if
            :: there -> WRITE(fresh = true); MOVE(ACCEPT)
            :: !there -> MOVE(BACK)
            fi
        :: step == ACCEPT ->
            ask(fresh, answer);
            if
            :: answer == YES -> atomic { if :: claim == _pid && fresh -> accepted = true :: else -> skip fi }; MOVE(PROOF)
            :: answer == NO -> MOVE(BACK_ADD)
            :: answer == NONE -> if :: tries < 2 -> tries++ :: true -> MOVE(BACK_ADD) fi
            fi
        :: step == PROOF ->
            if
            :: shown -> MOVE(NARROW)
            :: !shown -> MOVE(BACK_ADD)          /* the end of its wait */
            fi
        :: step == NARROW ->
            /* Asked again unless the answer is fresh; the file is read, rule 1
             * is checked on what it says, and it is replaced if it still says so. */
            ask(fresh, answer);
            if
            :: answer == YES ->
                touched = true;
                atomic {
                    if
                    :: there && claim == _pid && fresh && shown && old == FREE ->
                        before = WAY;
                        old = ENDED;
                        assert(!before || WAY)
                    :: else -> skip
                    fi
                };
                if
                :: fresh -> MOVE(CHECK)
                :: !fresh -> MOVE(BACK_NARROW)
                fi
            :: answer == NO -> MOVE(BACK_NARROW)
            :: answer == NONE -> if :: tries < 4 -> tries++ :: true -> MOVE(BACK_NARROW) fi
            fi
        :: step == CHECK ->
            ask(fresh, answer);
            if
            :: answer == YES -> MOVE(GRACE)
            :: answer == NO -> MOVE(BACK_NARROW)
            :: answer == NONE -> if :: tries < 6 -> tries++ :: true -> MOVE(BACK_NARROW) fi
            fi
        :: step == GRACE ->
            if
            :: true -> MOVE(WITHDRAW)                    /* its end has come */
            :: true -> MOVE(BACK_NARROW)                 /* somebody cancelled */
            fi
        :: step == WITHDRAW ->
            ask(fresh, answer);
            if
            :: answer == YES ->
                atomic {
                    if
                    :: there && claim == _pid && fresh && shown && old != GONE ->
                        before = WAY;
                        old = GONE;
                        assert(!before || WAY)
                    :: else -> skip
                    fi
                };
                MOVE(DONE)
            :: answer != YES -> if :: tries < 8 -> tries++ :: true -> MOVE(DONE) fi  /* said to be in trouble: the old key has ended, its line stays */
            fi
        :: step == BACK_NARROW ->
            if
            :: !there -> MOVE(BACK_ADD)
            :: there ->
                if
                :: touched && old != FREE -> WRITE(old = FREE)
                :: else -> skip
                fi;
                MOVE(BACK_ADD)
            fi
        :: step == BACK_ADD ->
            ask(old == FREE, answer);
            if
            :: !there -> MOVE(BACK)
            :: there && answer == YES ->
                /* Only while the old key is seen to be taken does ours go out. */
                atomic {
                    if
                    :: claim == _pid && old == FREE -> fresh = false; assert(WAY)
                    :: else -> skip
                    fi
                };
                MOVE(BACK)
            :: there && answer == NO -> MOVE(STUCK)
            :: there && answer == NONE -> if :: tries < 10 -> tries++ :: true -> MOVE(STUCK) fi
            fi
        :: OVER -> skip
        fi
    od
}

/* The holder may show the private half, once the new key is in; or never. */
proctype holder() {
    if
    :: shown = true
    :: true
    fi
}

/* Somebody else edits the same file, and may take out either line, or put the
 * old one back; and the instance may be removed. */
proctype other() {
    do
    :: meddling > 0 && there ->
        meddling--;
        if
        :: fresh = false
        :: old = GONE
        :: old = FREE
        :: there = false
        :: true
        fi
    :: true -> break
    od
}

init {
    atomic {
        claim = 1;
        run replica(); run replica(); run holder(); run other()
    }
}

ltl ends { <> OVER }
