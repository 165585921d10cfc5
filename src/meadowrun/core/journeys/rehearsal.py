"""Lets a journey pass in imagined time, for many people and many plays at once.

An itinerary only leads forward: everybody on a step is moved before the next step is looked at.
Each imagined person does what a real one did after such a start. `engine.py` is the judge: a test
holds every way that is found here equal to its walk.
"""

import dataclasses
from collections.abc import Mapping, Sequence

import numpy as np

from meadowrun.core.journeys.chance import path_by_chance
from meadowrun.core.journeys.clocks import (
    DAY,
    NEVER,
    Floats,
    Ints,
    at_hour,
    first_open,
    wait_over,
)
from meadowrun.core.journeys.crowding import in_a_week
from meadowrun.core.journeys.details import holds
from meadowrun.core.journeys.doors import their_turns, with_room
from meadowrun.core.journeys.flat import END, Flat
from meadowrun.core.journeys.imagined import (
    Bools,
    Leaving,
    Passed,
    Range,
    Rehearsal,
    Texts,
    World,
)
from meadowrun.core.journeys.ranges import between, by_play, range_of
from meadowrun.core.journeys.rooms import Rooms
from meadowrun.core.journeys.samples import drawn_for
from meadowrun.core.journeys.steps import (
    REACTIONS,
    BranchStep,
    ExitRule,
    Goal,
    MessageStep,
    Parting,
    Path,
    SplitStep,
    TaskStep,
    WaitForStep,
    WaitStep,
)

#: Hours and limits are asked in turn until both are satisfied, so many times at the most.
_TURNS = 12
#: So many ways are kept to be followed.
MOST_WAYS = 200
#: Kind of step → why people go on from it, or out; of the others because it is done.
_BECAUSE = {"exit": "exit", "jump": "jumped", "webhook": "answered"}


@dataclasses.dataclass
class _Gone:
    """Who leaves a step: who they are, where to, when and why."""

    who: Ints
    to: Texts
    at: Floats
    because: Texts
    #: whether they leave before the end
    left: Bools


def rehearse(
    steps: Mapping[str, Flat],
    first: str,
    world: World,
    exits: Sequence[ExitRule] = (),
    goal: Goal | None = None,
    lifts: Mapping[str, str] | None = None,
) -> Rehearsal:
    """Moves everybody from their start to the end, or to the end of the imagined time. Where only
    so many may be inside, it is played once to see how long each stays, and again with those for
    whom there is room."""

    def play(within: World) -> Rehearsal:
        return _Play(steps, within, exits, goal, lifts or {}).run(first)

    found = play(world)
    if not world.most_inside:
        return found
    stays = with_room(world.starts, found.over, world.most_inside)
    at = np.where(stays, world.starts.at, NEVER)
    again = play(dataclasses.replace(world, starts=dataclasses.replace(world.starts, at=at)))
    came = np.isfinite(world.starts.at) & (world.starts.at <= world.until)
    return dataclasses.replace(again, full=range_of(world, np.flatnonzero(came & ~stays)))


class _Play:
    """One rehearsal while it runs: one token for each start."""

    def __init__(
        self,
        steps: Mapping[str, Flat],
        world: World,
        exits: Sequence[ExitRule],
        goal: Goal | None,
        lifts: Mapping[str, str],
    ):
        self.steps, self.world, self.exits = steps, world, exits
        self.random = np.random.default_rng(world.seed)
        starts = world.starts
        self.size = len(starts.at)
        self.zone = world.people.zone[starts.person]
        #: when the last message went, and when they react to it
        self.reacted = np.full((self.size, len(REACTIONS)), NEVER)
        #: who was sent anything yet
        self.got = np.zeros(self.size, bool)
        self.rooms = Rooms(world)
        #: who gets a message that comes by itself, and when
        self.gets: list[tuple[Ints, Floats]] = []
        # What happens at the very start is what started it.
        self.later = np.nextafter(starts.at, NEVER)
        self.goal_at = self._first_event(goal.event, self.later) if goal else None
        if goal is not None and self.goal_at is not None:
            in_time = self.goal_at < starts.at + goal.days * DAY
            self.goal_at = np.where(in_time, self.goal_at, NEVER)
        self.out_at, self.out_by = self._taken_out(goal)
        self.lifts = lifts
        #: when each is taken off the step that is done now, by a rule, by the goal, or past others
        self.off_at = self.out_at
        self.coming: dict[str, list[tuple[Ints, Floats]]] = {}
        self.came: dict[str, Range] = {}
        self.sent: dict[str, Range] = {}
        self.kept_back: dict[str, dict[str, Range]] = {}
        self.on: dict[str, Range] = {}
        self.took: dict[str, Range] = {}
        self.left: dict[str, Range] = {}
        self.after: dict[str, float] = {}
        self.days = int(np.ceil(world.until / DAY)) + 1
        self.a_day: dict[str, Floats] = {}
        self.tasks = np.zeros(self.days)
        self.chose: dict[str, Floats] = {}
        self.here: dict[str, Floats] = {}
        self.finished = np.zeros(world.plays)
        self.inside = np.zeros(world.plays)
        self.delayed = np.zeros(world.plays)
        #: when each is at the end, or out
        self.over = np.full(self.size, NEVER)
        kept = np.flatnonzero((starts.play == 0) & np.isfinite(starts.at))[:MOST_WAYS]
        self.ways: dict[int, list[Passed]] = {
            int(one): [Passed(END, float(starts.at[one]), "start")] for one in kept
        }

    def run(self, first: str) -> Rehearsal:
        everybody = np.arange(self.size)
        starts = self.world.starts
        # Where there is no step nobody comes in.
        within = (starts.at <= self.world.until) & (first != END)
        turns = their_turns(starts, self.world.gap)
        let_in = within & (turns <= self.world.until)
        self.coming[first] = [(everybody[let_in], turns[let_in])]
        self.inside += self._by_play(everybody[within & ~let_in])
        for place, way in self.ways.items():
            way[0] = Passed(first, float(turns[place]), "start")
        leaving: dict[str, list[Ints]] = {}
        for ident, flat in self.steps.items():
            groups = self.coming.pop(ident, [])
            if not groups:
                continue
            who = np.concatenate([one for one, _ in groups])
            at = np.concatenate([moments for _, moments in groups])
            self.came[ident] = self._range(who)
            self.after[ident] = float(np.median(at - starts.at[who])) / DAY if len(who) else 0.0
            self.off_at = self.out_at
            if ident in self.lifts and self.goal_at is not None:
                self.off_at = np.minimum(self.out_at, self.goal_at)
            gone = self._cut(self._do(flat, who, at), self.lifts.get(ident, END))
            self.on[ident] = self._range(gone.who[~gone.left & (gone.at <= self.world.until)])
            self._note_here(ident, at, gone)
            self._follow(gone)
            self._send_on(gone, leaving)
        for because, groups_out in leaving.items():
            self.left[because] = self._range(np.concatenate(groups_out))
        goal_at = self.goal_at
        reached = (
            np.flatnonzero((goal_at <= self.world.until) & within)
            if goal_at is not None
            else np.empty(0, np.int64)
        )
        return Rehearsal(
            entered=self._range(everybody[within]),
            inside=between(self.inside),
            finished=between(self.finished),
            full=between(np.zeros(self.world.plays)),
            left=self.left,
            goal=self._range(reached),
            came=self.came,
            sent=self.sent,
            kept_back=self.kept_back,
            on=self.on,
            took=self.took,
            after=self.after,
            delayed=between(self.delayed),
            a_day=self.a_day,
            here=self.here,
            ways={place: tuple(way) for place, way in self.ways.items()},
            over=self.over,
            in_a_week=in_a_week(self.world, self.gets),
            tasks=self.tasks,
            chose=self.chose,
        )

    def _do(self, flat: Flat, who: Ints, at: Floats) -> _Gone:
        """Where those go who came to a step, when and why."""
        step = flat.step
        if isinstance(step, MessageStep):
            return self._message(flat, step, who, at)
        if isinstance(step, WaitStep):
            over = wait_over(step, at, self.zone[who], self.world.clocks, self._dates(step, who))
            past = np.isnan(over)
            out = past & (step.past == "exit")
            return _Gone(
                who,
                np.where(out, END, flat.next),
                np.where(past, at, over),
                np.where(past, "past", "time"),
                out,
            )
        if isinstance(step, WaitForStep):
            return self._wait_for(flat, step, who, at)
        if isinstance(step, (BranchStep, SplitStep)):
            chosen = (
                self._branch(step, who) if isinstance(step, BranchStep) else self._split(step, who)
            )
            for one, number in self._answered(step, who):
                chosen[one] = number
            return self._by_path(flat, step.paths, who, at, chosen)
        if isinstance(step, TaskStep):
            given = at < self.off_at[who]
            self.tasks = self.tasks + self._by_day(at[given & (at <= self.world.until)])
        because = _BECAUSE.get(step.kind, "done")
        out = np.full(len(who), because in ("exit", "jumped"))
        return _Gone(who, np.full(len(who), flat.next), at, np.full(len(who), because), out)

    def _cut(self, gone: _Gone, lift: str) -> _Gone:
        """Exit rules and the goal take people out wherever they are, or past other steps."""
        off_at, out_at = self.off_at[gone.who], self.out_at[gone.who]
        off = off_at <= gone.at
        out = off & (out_at <= off_at)
        past = off & ~out
        because = np.where(out, self.out_by[gone.who], np.where(past, "goal", gone.because))
        return _Gone(
            gone.who,
            np.where(out, END, np.where(past, lift, gone.to)),
            np.where(off, off_at, gone.at),
            because,
            np.where(off, out, gone.left),
        )

    def _send_on(self, gone: _Gone, leaving: dict[str, list[Ints]]) -> None:
        """Puts people on their next step; counts who is out, and who is still here at the end."""
        moved = gone.at <= self.world.until
        self.inside += self._by_play(gone.who[~moved])
        for to in np.unique(gone.to[moved]):
            there = moved & (gone.to == to)
            if to != END:
                self.coming.setdefault(str(to), []).append((gone.who[there], gone.at[there]))
                continue
            self.over[gone.who[there]] = gone.at[there]
            self.finished += self._by_play(gone.who[there & ~gone.left])
            there &= gone.left
            for because in np.unique(gone.because[there]):
                some = there & (gone.because == because)
                leaving.setdefault(str(because), []).append(gone.who[some])

    def _message(self, flat: Flat, step: MessageStep, who: Ints, at: Floats) -> _Gone:
        """The first of its messages that may leaves, or none: by the verdict, hours and limits."""
        settled, reason = at.copy(), np.full(len(who), "", "<U40")
        left = np.arange(len(who))
        gets: list[Ints] = []
        for option in options(step):
            some = who[left]
            settled[left], reason[left], really = self._tried(option, some, settled[left])
            gets.append(some[really])
            left = left[~np.isin(reason[left], ("sent", "control"))]
        self.sent[step.id] = self._range(np.concatenate(gets))
        sent = reason == "sent"
        kept = ~sent & (settled < self.off_at[who]) & (settled <= self.world.until)
        self.kept_back[step.id] = {
            str(one): self._range(who[kept & (reason == one)]) for one in np.unique(reason[kept])
        }
        out = ~sent & (reason != "control") & (step.refused == "exit")
        return _Gone(who, np.where(out, END, flat.next), settled, reason, out)

    def _tried(self, option: str, who: Ints, at: Floats) -> tuple[Floats, Texts, Bools]:
        """One message of a step for some people: when it is settled, what becomes of it, and who
        gets it before they are taken out, and before the end."""
        leaving = self.world.leaving[option]
        verdict = self.world.people.verdicts[option][self.world.starts.person[who]]
        goes = verdict == "go"
        leaves_at, delayed = self._leaves(leaving, who, at)
        too_long = goes & (leaves_at > at + leaving.hold)
        settled = np.where(goes, np.where(too_long, at + leaving.hold, leaves_at), at)
        sent = goes & ~too_long
        reason = np.where(goes, np.where(too_long, "too_late", "sent"), verdict)
        # What would be sent after they are taken out, or after the end, is not.
        really = sent & (settled < self.off_at[who]) & (settled <= self.world.until)
        gets = who[really]
        self.got[gets] = True
        waits = delayed & (settled < self.off_at[who]) & goes
        self.delayed += self._by_play(who[waits])
        for limit in leaving.counts:
            self.rooms.note(limit, gets, settled[really])
        self._count_day(leaving.channel, settled[really])
        if leaving.comes:
            self.gets.append((gets, settled[really]))
        pasts = self.world.pasts.reactions.get(option)
        if pasts is not None and len(pasts) and len(gets):
            plays = self.world.starts.play[gets]
            drawn = pasts[drawn_for(self.random, len(pasts), self.world.plays, plays)]
            self.reacted[gets] = settled[really][:, None] + drawn
        else:
            self.reacted[gets] = NEVER
        return settled, reason, really

    def _leaves(self, leaving: Leaving, who: Ints, at: Floats) -> tuple[Floats, Bools]:
        """When a message may leave by hours and limits together; and who waits for room."""
        world, zone = self.world, self.zone[who]
        person = world.starts.person[who]
        known = {limit: self.rooms.known(limit, who) for limit in leaving.obeys}
        now, delayed = at, np.zeros(len(who), bool)
        for _ in range(_TURNS):
            before = now
            if leaving.hour is not None:
                now = at_hour(leaving.hour[person], now, zone, world.clocks)
            for one in leaving.hours:
                now = first_open(one, now, zone, world.clocks)
            for limit in leaving.obeys:
                room = self.rooms.first(limit, known[limit], now)
                if limit in world.wished:
                    room = np.where(world.wished[limit][person], room, now)
                delayed |= room > now
                now = room
            if np.array_equal(now, before):
                break
        return now, delayed

    def _wait_for(self, flat: Flat, step: WaitForStep, who: Ints, at: Floats) -> _Gone:
        """Each by what happens first; the last path where nothing does in time."""
        length = step.span.length().total_seconds() / 60
        moments = [self._happens(path, who, at, length) for path in step.paths[:-1]]
        first = np.column_stack([*moments, np.full(len(who), NEVER)])
        place = np.argmin(first, axis=1)
        moment = first[np.arange(len(who)), place]
        none = ~(moment < at + length)
        place = np.where(none, len(step.paths) - 1, place)
        when = np.where(none, at + length, moment)
        for one, number in self._answered(step, who):
            place[one] = number
            over = at[one] + length
            # As it would have happened, else in the middle of the time there is for it.
            happens = first[one, number] if first[one, number] < over else at[one] + length / 2
            when[one] = over if number == len(step.paths) - 1 else happens
            if step.paths[number].reaction:
                # Who opened it here has opened it for what is asked later, too.
                reaction = REACTIONS.index(step.paths[number].reaction)
                self.reacted[who[one], reaction] = when[one]
        return self._by_path(flat, step.paths, who, when, place)

    def _answered(self, step: Parting, who: Ints) -> list[tuple[int, int]]:
        """Those who take a path of a step because the author answers for them: their place among
        all who came, and the number of the path."""
        numbers = {path.id: number for number, path in enumerate(step.paths)}
        return [
            (int(one), numbers[answers[step.id]])
            for place, answers in self.world.answers.items()
            if answers.get(step.id) in numbers
            for one in np.flatnonzero(who == place)
        ]

    def _happens(self, path: Path, who: Ints, at: Floats, length: float) -> Floats:
        """When what a path waits for happens to each, infinity where never: as it did in the past,
        or to the share of people that the author gives."""
        if path.reaction:
            moment: Floats = np.maximum(self.reacted[who, REACTIONS.index(path.reaction)], at)
        else:
            moment = self._first_event(path.event, at, who)
        share = self.world.shares.get(path.id)
        if share is None:
            return moment
        does = self.random.random(len(who)) < share
        if path.reaction:
            # Nobody reacts to what they were not sent.
            does &= self.got[who]
        in_time = np.where(moment < at + length, moment, at + self.random.random(len(who)) * length)
        return np.where(does, in_time, NEVER)

    def _branch(self, step: BranchStep, who: Ints) -> Ints:
        person = self.world.starts.person[who]
        place = np.full(len(who), len(step.paths) - 1)
        for number in reversed(range(len(step.paths) - 1)):
            path = step.paths[number]
            among = self._says(path, who)
            if path.who or not path.detail:
                among &= self.world.people.among[path.id][person]
            place = np.where(among, number, place)
        return place

    def _says(self, path: Path, who: Ints) -> Bools:
        """Of whom the event that started it is as a path asks."""
        known = self.world.pasts.details
        if not path.detail:
            return np.ones(len(who), bool)
        if not known:
            return np.full(len(who), holds(path, None))
        says = np.array([holds(path, one) for one in known], bool)
        mine: Bools = says[self.world.starts.past[who]]
        return mine

    def _split(self, step: SplitStep, who: Ints) -> Ints:
        places = {path.id: number for number, path in enumerate(step.paths)}
        contacts = self.world.people.contacts
        chosen = np.array(
            [places[path_by_chance(step, int(one), self.world.salt)] for one in contacts], np.int64
        )
        mine: Ints = chosen[self.world.starts.person[who]]
        return mine

    def _by_path(
        self, flat: Flat, paths: Sequence[Path], who: Ints, at: Floats, place: Ints
    ) -> _Gone:
        """On by the path that each takes, the first one being 0."""
        first = dict(flat.first_of)
        takes = (at < self.off_at[who]) & (at <= self.world.until)
        for number, path in enumerate(paths):
            some = takes & (place == number)
            self.took[path.id] = self._range(who[some])
            if isinstance(flat.step, SplitStep):
                self.chose[path.id] = np.cumsum(self._by_day(at[some]))
        to = np.array([first[path.id] for path in paths])
        because = np.array([path.id for path in paths])[place]
        return _Gone(who, to[place], at, because, np.zeros(len(who), bool))

    def _taken_out(self, goal: Goal | None) -> tuple[Floats, Texts]:
        """When each is taken out by a rule or by the goal, infinity where never, and which."""
        at, by = np.full(self.size, NEVER), np.full(self.size, "", "<U40")
        for rule in self.exits:
            moment = (
                self._first_event(rule.event, self.later) if rule.event else self._becomes(rule.id)
            )
            by = np.where(moment < at, rule.id, by)
            at = np.minimum(at, moment)
        if goal is not None and goal.ends and self.goal_at is not None:
            by = np.where(self.goal_at < at, "goal", by)
            at = np.minimum(at, self.goal_at)
        return at, by

    def _becomes(self, rule: str) -> Floats:
        """When each is first seen to be one of those whom a rule takes out: as they come in, else
        on a later day; infinity where never."""
        starts, begins = self.world.starts, self.world.looked_from
        inside = self.world.people.taken_out.get(rule)
        if inside is None:
            return np.full(self.size, NEVER)
        mine, days = inside[starts.person], np.arange(inside.shape[1])
        came = (starts.at - begins) / DAY
        today = np.clip(np.floor(came), 0, len(days) - 1).astype(np.int64)
        later = mine & (days > came[:, None])
        on_a_day = np.where(later.any(axis=1), begins + later.argmax(axis=1) * DAY, NEVER)
        at_once = mine[np.arange(self.size), today]
        first: Floats = np.where(at_once, starts.at, on_a_day)
        return first

    def _first_event(self, kind: str, at: Floats, who: Ints | None = None) -> Floats:
        """When each first does something, from a moment each on."""
        starts = self.world.starts
        past, begins = starts.past, starts.at
        if who is not None:
            past, begins = past[who], begins[who]
        known = self.world.pasts.events.get(kind)
        if known is None or not known.shape[1]:
            return np.full(len(past), NEVER)
        moments = known[past] + begins[:, None]
        first: Floats = np.where(moments >= at[:, None], moments, NEVER).min(axis=1)
        return first

    def _dates(self, step: WaitStep, who: Ints) -> Floats | None:
        if not step.date:
            return None
        dates: Floats = self.world.people.dates[step.id][self.world.starts.person[who]]
        return dates

    def _range(self, who: Ints) -> Range:
        """How many they are, over the plays."""
        return range_of(self.world, who)

    def _by_play(self, who: Ints) -> Floats:
        return by_play(self.world, who)

    def _by_day(self, moments: Floats) -> Floats:
        """How many of some moments are on each day, in the middle of the plays."""
        days = np.floor(moments[np.isfinite(moments)] / DAY).astype(np.int64)
        counted = np.bincount(days[(days >= 0) & (days < self.days)], minlength=self.days)
        a_day: Floats = counted * self.world.weight / self.world.plays
        return a_day

    def _count_day(self, channel: str, moments: Floats) -> None:
        self.a_day[channel] = self.a_day.get(channel, np.zeros(self.days)) + self._by_day(moments)

    def _note_here(self, ident: str, came: Floats, gone: _Gone) -> None:
        """How many are on a step at the end of each day."""
        self.here[ident] = np.cumsum(self._by_day(came)) - np.cumsum(self._by_day(gone.at))

    def _follow(self, gone: _Gone) -> None:
        """Notes the next step of those whose way is kept."""
        kept = np.flatnonzero(np.isin(gone.who, list(self.ways)) & (gone.at <= self.world.until))
        for place in kept:
            way = self.ways[int(gone.who[place])]
            way.append(Passed(str(gone.to[place]), float(gone.at[place]), str(gone.because[place])))


def options(step: MessageStep) -> list[str]:
    """What the messages of a step are known by, in the order in which they are tried: the first by
    the id of the step."""
    return [step.id, *(f"{step.id}/{place}" for place, _ in enumerate(step.instead, 1))]
