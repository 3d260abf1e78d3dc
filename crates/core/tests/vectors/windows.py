"""Writes the vectors of the calendar: python3 windows.py

rules.tsv: recurrence rules expanded by python-dateutil; first the examples of RFC 5545, 3.8.5.3,
then a thousand random ones. cron.tsv: a thousand cron lines by croniter, in UTC.
occurrences.tsv: windows.ics, written by us, read and expanded by icalendar and
recurring_ical_events. Needs these packages from PyPI.
"""

import random
from datetime import datetime, timedelta, timezone

import croniter
import dateutil
import icalendar
import recurring_ical_events
from dateutil.rrule import rrulestr

random.seed(2026)

# RFC 5545, section 3.8.5.3: the rules of its examples that a window can have (from memory).
RFC = [
    ("FREQ=DAILY;COUNT=10", "19970902T090000"),
    ("FREQ=DAILY;UNTIL=19971224T000000", "19970902T090000"),
    ("FREQ=DAILY;INTERVAL=2", "19970902T090000"),
    ("FREQ=DAILY;INTERVAL=10;COUNT=5", "19970902T090000"),
    ("FREQ=YEARLY;UNTIL=20000131T140000;BYMONTH=1;BYDAY=SU,MO,TU,WE,TH,FR,SA", "19980101T090000"),
    ("FREQ=WEEKLY;COUNT=10", "19970902T090000"),
    ("FREQ=WEEKLY;INTERVAL=2;WKST=SU", "19970902T090000"),
    ("FREQ=WEEKLY;COUNT=10;WKST=SU;BYDAY=TU,TH", "19970902T090000"),
    ("FREQ=WEEKLY;INTERVAL=2;UNTIL=19971224T000000;WKST=SU;BYDAY=MO,WE,FR", "19970901T090000"),
    ("FREQ=WEEKLY;INTERVAL=2;COUNT=8;WKST=SU;BYDAY=TU,TH", "19970902T090000"),
    ("FREQ=MONTHLY;COUNT=10;BYDAY=1FR", "19970905T090000"),
    ("FREQ=MONTHLY;INTERVAL=2;COUNT=10;BYDAY=1SU,-1SU", "19970907T090000"),
    ("FREQ=MONTHLY;COUNT=6;BYDAY=-2MO", "19970922T090000"),
    ("FREQ=MONTHLY;BYMONTHDAY=-3", "19970928T090000"),
    ("FREQ=MONTHLY;COUNT=10;BYMONTHDAY=2,15", "19970902T090000"),
    ("FREQ=MONTHLY;COUNT=10;BYMONTHDAY=1,-1", "19970930T090000"),
    ("FREQ=MONTHLY;INTERVAL=18;COUNT=10;BYMONTHDAY=10,11,12,13,14,15", "19970910T090000"),
    ("FREQ=MONTHLY;INTERVAL=2;BYDAY=TU", "19970902T090000"),
    ("FREQ=YEARLY;COUNT=10;BYMONTH=6,7", "19970610T090000"),
    ("FREQ=YEARLY;INTERVAL=2;COUNT=10;BYMONTH=1,2,3", "19970310T090000"),
    ("FREQ=YEARLY;INTERVAL=3;COUNT=10;BYYEARDAY=1,100,200", "19970101T090000"),
    ("FREQ=YEARLY;BYDAY=20MO", "19970519T090000"),
    ("FREQ=YEARLY;BYWEEKNO=20;BYDAY=MO", "19970512T090000"),
    ("FREQ=YEARLY;BYMONTH=3;BYDAY=TH", "19970313T090000"),
    ("FREQ=MONTHLY;BYDAY=FR;BYMONTHDAY=13", "19970902T090000"),
    ("FREQ=MONTHLY;BYDAY=SA;BYMONTHDAY=7,8,9,10,11,12,13", "19970913T090000"),
    ("FREQ=YEARLY;INTERVAL=4;BYMONTH=11;BYDAY=TU;BYMONTHDAY=2,3,4,5,6,7,8", "19961105T090000"),
    ("FREQ=MONTHLY;COUNT=3;BYDAY=TU,WE,TH;BYSETPOS=3", "19970904T090000"),
    ("FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-2", "19970929T090000"),
    ("FREQ=HOURLY;INTERVAL=3;UNTIL=19970902T170000", "19970902T090000"),
    ("FREQ=WEEKLY;INTERVAL=2;COUNT=4;BYDAY=TU,SU;WKST=MO", "19970805T090000"),
    ("FREQ=WEEKLY;INTERVAL=2;COUNT=4;BYDAY=TU,SU;WKST=SU", "19970805T090000"),
    ("FREQ=MONTHLY;BYMONTHDAY=15,30;COUNT=5", "20070115T090000"),
]
DAYS = ["MO", "TU", "WE", "TH", "FR", "SA", "SU"]


def some(values, most):
    return ",".join(str(v) for v in sorted(random.sample(values, random.randint(1, most)), key=str))


def random_rule():
    freq = random.choice(["HOURLY", "DAILY", "WEEKLY", "MONTHLY", "YEARLY"])
    rule = [f"FREQ={freq}"]
    if random.random() < 0.5:
        rule.append(f"INTERVAL={random.randint(1, 5)}")
    if random.random() < 0.3:
        rule.append(f"COUNT={random.randint(1, 30)}")
    if random.random() < 0.3:
        rule.append(f"BYMONTH={some(range(1, 13), 3)}")
    if freq in ("MONTHLY", "YEARLY") and random.random() < 0.5:
        if random.random() < 0.5:
            rule.append(f"BYMONTHDAY={some([*range(1, 29), -1, -2], 3)}")
        elif freq == "MONTHLY" or "BYMONTH" in " ".join(rule):
            rule.append(f"BYDAY={random.choice(['1', '2', '-1', '3'])}{random.choice(DAYS)}")
    elif random.random() < 0.5:
        rule.append(f"BYDAY={some(DAYS, 4)}")
    if freq == "WEEKLY" and random.random() < 0.3:
        rule.append("WKST=SU")
    start = datetime(2026, random.randint(1, 12), random.randint(1, 28), random.randint(0, 23), random.choice([0, 30]))
    return ";".join(rule), start.strftime("%Y%m%dT%H%M%S")


def expanded(rule, first):
    start = datetime.strptime(first, "%Y%m%dT%H%M%S")
    found, until = [], start + timedelta(days=5 * 366)
    for at in rrulestr(rule, dtstart=start):
        if at > until or len(found) == 12:
            break
        found.append(at.strftime("%Y%m%dT%H%M"))
    return ",".join(found)


def cron_line():
    def field(low, high):
        kind = random.random()
        if kind < 0.35:
            return "*"
        if kind < 0.45:
            return f"*/{random.randint(2, 7)}"
        if kind < 0.6:
            a = random.randint(low, high - 2)
            return f"{a}-{random.randint(a + 1, high)}"
        return ",".join(str(v) for v in sorted(random.sample(range(low, high + 1), random.randint(1, 3))))

    minute, hour, month = field(0, 59), field(0, 23), random.choice(["*", "*", field(1, 12)])
    day = "*" if random.random() < 0.5 else ",".join(str(v) for v in sorted(random.sample(range(1, 29), 2)))
    weekday = "*" if random.random() < 0.5 else some([0, 1, 2, 3, 4, 5, 6], 3)
    return f"{minute} {hour} {day} {month} {weekday}"


def write(name, head, rows):
    with open(name, "w") as f:
        f.write(f"# {head}\n")
        f.writelines("\t".join(row) + "\n" for row in rows)


rules = RFC + [random_rule() for _ in range(1000)]
write("rules.tsv", f"rule, first start, starts within five years, twelve at most; python-dateutil {dateutil.__version__}",
      ([rule, first, expanded(rule, first)] for rule, first in rules))


def crons():
    for _ in range(1000):
        line, start = cron_line(), datetime(2026, 1, 1, tzinfo=timezone.utc) + timedelta(minutes=random.randint(0, 500_000))
        every = croniter.croniter(line, start)
        yield [line, start.strftime("%Y-%m-%dT%H:%M:%SZ"), ",".join(every.get_next(datetime).strftime("%Y%m%dT%H%M") for _ in range(5))]


write("cron.tsv", f"line, after, the next five; croniter {croniter.__version__ if hasattr(croniter, '__version__') else ''}", crons())

with open("windows.ics") as f:
    ours = icalendar.Calendar.from_ical(f.read())


def occurrences():
    found = recurring_ical_events.of(ours).between(datetime(2026, 1, 1), datetime(2026, 12, 31))
    for event in found:
        begin, end = event["DTSTART"].dt, event["DTEND"].dt
        def utc(t):
            if not isinstance(t, datetime):
                return t.strftime("%Y%m%d")
            return t.astimezone(timezone.utc).strftime("%Y%m%dT%H%M%SZ") if t.tzinfo else t.strftime("%Y%m%dT%H%M%S")
        yield [str(event["SUMMARY"]), utc(begin), utc(end)]


write("occurrences.tsv", f"summary, begin, end; icalendar {icalendar.__version__}, recurring_ical_events",
      sorted(occurrences(), key=lambda r: (r[0], r[1])))
