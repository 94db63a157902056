"""The API's answer about stored bytes."""

from __future__ import annotations

from datetime import date

from sqlalchemy.orm import Session

from bathotype.service.storage import measures_of
from bathotype.wire import overview as wire


def storage_answer(session: Session, account_id: str, since: date) -> wire.Storage:
    """What an account needs of the regions' stores, at each day's last measure."""
    measures = measures_of(session, account_id, since)
    last_of_day = {at.date(): at for at, *_ in measures}  # in order: the last one of a day stays
    place = {at: number for number, at in enumerate(last_of_day.values())}
    series: dict[tuple[str, str], wire.StoredSeries] = {}
    for at, region, line, alone, shared in measures:
        if at not in place:
            continue
        empty = [0] * len(place)
        one = series.setdefault(
            (region, line), wire.StoredSeries(region=region, line=line or None, alone=empty[:], shared=empty[:])
        )
        one.alone[place[at]], one.shared[place[at]] = alone, shared
    return wire.Storage(
        measured_at=measures[-1][0] if measures else None,
        days=list(last_of_day),
        series=[series[key] for key in sorted(series)],
    )
