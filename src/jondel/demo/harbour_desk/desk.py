"""What the people at the desk do. Each action is one transaction over several tables.

Some of them are wrong, each in one way, as code is that nobody looked at closely; finding out
which is what the demo is for. ``mended`` has them right.
"""

from __future__ import annotations

import random
from collections.abc import Callable
from datetime import datetime, timedelta
from typing import Any

from jondel.demo.harbour_desk.harbour import Harbour
from jondel.demo.harbour_desk.seed import tide_readings


class Refused(Exception):
    """The desk cannot do this now, for a reason that is told to the caller."""


class Desk:
    """The desk's actions on an open database. ``clock`` gives the harbour's time."""

    def __init__(
        self, harbour: Harbour, clock: Callable[[], datetime], *, mended: bool = False
    ) -> None:
        self._harbour = harbour
        self._clock = clock
        self._mended = mended
        self.actions: dict[str, Callable[[], str]] = {
            "book-berth": self.book_berth,
            "check-in": self.check_in,
            "sell-fuel": self.sell_fuel,
            "settle-invoice": self.settle_invoice,
            "cancel-booking": self.cancel_booking,
            "import-tides": self.import_tides,
        }

    def run(self, name: str) -> str:
        """Run an action by name and say what it did. Raises ``KeyError`` and ``Refused``."""
        action = self.actions[name]
        with self._harbour.transaction():
            done = action()
            self._touch_session()
        return done

    def book_berth(self) -> str:
        berth = self._one("SELECT id FROM berths WHERE state = 'free' ORDER BY id LIMIT 1")
        boat, skipper = self._row(
            "SELECT id, skipper_id FROM boats ORDER BY (id * 37) % 211 "
            "LIMIT 1 OFFSET (SELECT count(*) FROM bookings) % 210"
        )
        today = self._clock().date()
        booking = self._insert(
            "INSERT INTO bookings(berth_id, skipper_id, boat_id, arrives_on, leaves_on, total) "
            "VALUES (?, ?, ?, ?, ?, ?)",
            (berth, skipper, boat, str(today), str(today + timedelta(days=3)), 66.0),
        )
        self._harbour.run(
            "UPDATE berths SET state = 'held', booking_id = ? WHERE id = ?", (booking, berth)
        )
        self._insert(
            "INSERT INTO invoices(booking_id, skipper_id, amount, issued_at, due_on) "
            "VALUES (?, ?, ?, ?, ?)",
            (booking, skipper, 66.0, self._now(), str(today + timedelta(days=3))),
        )
        return f"berth {berth} is held by booking {booking}"

    def check_in(self) -> str:
        booking, berth = self._row(
            "SELECT id, berth_id FROM bookings WHERE status = 'held' ORDER BY id DESC LIMIT 1"
        )
        self._harbour.run(
            "UPDATE bookings SET status = 'berthed', checked_in_at = ? WHERE id = ?",
            (self._now() if self._mended else self._clock().strftime("%d/%m/%Y %H:%M"), booking),
        )
        self._harbour.run("UPDATE berths SET state = 'taken' WHERE id = ?", (berth,))
        return f"booking {booking} checked in at berth {berth}"

    def sell_fuel(self, note: str = "") -> str:
        written = note or None if self._mended else note
        boat, skipper = self._row(
            "SELECT id, skipper_id FROM boats LIMIT 1 "
            "OFFSET (SELECT count(*) * 17 FROM fuel_sales) % 210"
        )
        sale = self._insert(
            "INSERT INTO fuel_sales(boat_id, pump, litres, price, sold_at, note) "
            "VALUES (?, ?, ?, ?, ?, ?)",
            (boat, 1, 42.5, 73.95, self._now(), written),
        )
        invoice = self._insert(
            "INSERT INTO invoices(booking_id, skipper_id, amount, issued_at, due_on) "
            "VALUES (?, ?, ?, ?, ?)",
            (
                None if self._mended else sale,
                *(skipper, 73.95, self._now(), str(self._clock().date())),
            ),
        )
        return f"42.5 litres sold to boat {boat}, on invoice {invoice}"

    def settle_invoice(self) -> str:
        invoice, booking, amount = self._row(
            "SELECT id, booking_id, amount FROM invoices "
            "WHERE settled_at IS NULL ORDER BY id LIMIT 1"
        )
        now = self._now()
        reference = f"SH{90_000_000 + invoice:08}"
        paid = (reference, "card") if self._mended else ("card", reference)
        self._insert(
            "INSERT INTO payments(invoice_id, amount, reference, method, received_at) "
            "VALUES (?, ?, ?, ?, ?)",
            (invoice, amount, *paid, now),
        )
        self._harbour.run("UPDATE invoices SET settled_at = ? WHERE id = ?", (now, invoice))
        self._harbour.run("UPDATE bookings SET paid_at = ? WHERE id = ?", (now, booking))
        return f"invoice {invoice} of {amount:.2f} settled by card"

    def cancel_booking(self) -> str:
        booking = self._one(
            "SELECT id FROM bookings WHERE status = 'held' ORDER BY arrives_on DESC, id LIMIT 1"
        )
        self._harbour.run(
            "UPDATE bookings SET status = 'cancelled', cancelled_at = ? WHERE id = ?",
            (self._now(), booking),
        )
        if self._mended:
            self._harbour.run(
                "UPDATE berths SET state = 'free', booking_id = NULL WHERE booking_id = ?",
                (booking,),
            )
        return f"booking {booking} cancelled"

    def import_tides(self) -> str:
        first = self._one("SELECT max(id) + 1 FROM tide_readings")
        rows = tide_readings(random.Random(first), first, 120, self._clock())
        self._harbour.fill("tide_readings", rows)
        return "120 tide readings imported"

    def _touch_session(self) -> None:
        self._harbour.run(
            "UPDATE web_sessions SET last_seen_at = ? WHERE token = "
            "(SELECT token FROM web_sessions ORDER BY last_seen_at, token LIMIT 1)",
            (int(self._clock().timestamp()),),
        )

    def _now(self) -> str:
        return self._clock().isoformat(" ", "seconds")

    def _insert(self, statement: str, values: tuple[object, ...]) -> int:
        return self._harbour.insert(statement, values)

    def _row(self, query: str) -> tuple[Any, ...]:
        rows = self._harbour.run(query)
        if not rows:
            raise Refused("there is nothing left to do this with; start the demo afresh")
        return rows[0]

    def _one(self, query: str) -> int:
        return int(self._row(query)[0])
