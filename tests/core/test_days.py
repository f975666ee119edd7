"""The plan of a day: minutes, order, returns, days off, the rehearsal, the forecast."""

from __future__ import annotations

from datetime import date, timedelta

from django.test import SimpleTestCase

from didactor.core.planning.days import StoneNow, forecast, minutes_for, new_gain, next_return, plan_day, strength_of

MONDAY = date(2026, 3, 2)
DUE = MONDAY + timedelta(days=10)


def stones(*strengths: float, **fields: object) -> list[StoneNow]:
    return [StoneNow(name=f"s{k}", strength=value, firm=value >= 1, **fields) for k, value in enumerate(strengths, start=1)]


class DayTests(SimpleTestCase):
    def test_never_a_day_over_its_minutes_and_the_weakest_first(self):
        for minutes in range(1, 31):
            for count in (1, 3, 12):
                day = plan_day(stones(*[k / count for k in range(count)]), MONDAY, DUE, minutes)
                self.assertLessEqual(day.minutes, minutes)
                self.assertGreaterEqual(day.minutes, min(minutes, 2))
        day = plan_day(stones(0.8, 0.1, 0.4), MONDAY, DUE, 4)
        self.assertEqual([p.name for p in day.portions], ["s2", "s3"])

    def test_the_order_of_the_task_goes_before_weakness(self):
        day = plan_day(stones(0.8, 0.1, 0.4), MONDAY, DUE, 4, order=["s1", "s2", "s3"])
        self.assertEqual([p.name for p in day.portions], ["s1", "s2"])

    def test_little_that_is_lacking_asks_for_few_minutes(self):
        self.assertLess(minutes_for(0.1, 0.1), minutes_for(0.6, 0.1))
        self.assertLess(minutes_for(0.3, 0.2), minutes_for(0.3, 0.05))
        self.assertEqual((minutes_for(0.0, 0.1), minutes_for(1.0, 0.0)), (2, 10))
        self.assertLess(plan_day(stones(0.9, 1.0), MONDAY, DUE, 30).minutes, 10)

    def test_firm_stones_come_back_when_they_are_due_and_in_the_last_two_days(self):
        held = StoneNow(name="s1", strength=1.0, firm=True, box=2, due=MONDAY + timedelta(days=1))
        self.assertEqual(plan_day([held], MONDAY, DUE, 15).portions, ())
        [portion] = plan_day([held], MONDAY + timedelta(days=1), DUE, 15).portions
        self.assertEqual((portion.minutes, portion.why), (1, "return"))
        late = StoneNow(name="s1", strength=1.0, firm=True, due=DUE + timedelta(days=9))
        self.assertEqual([len(plan_day([late], DUE - timedelta(days=k), DUE, 15).portions) for k in (3, 2, 1, 0, -1)], [0, 1, 1, 1, 0])
        self.assertEqual([(next_return(MONDAY, box) - MONDAY).days for box in (0, 1, 3, 9)], [1, 2, 8, 32])

    def test_days_off_are_free_and_the_rehearsal_is_on_the_day_before(self):
        self.assertTrue(plan_day(stones(0.1), MONDAY, DUE, 15, days_off={0}).free)
        self.assertEqual(plan_day(stones(0.1), MONDAY, DUE, 15, days_off={0}).minutes, 0)
        days = [plan_day(stones(0.1), DUE - timedelta(days=k), DUE, 15, final=True).rehearsal for k in (2, 1, 0)]
        self.assertEqual(days, [False, True, False])
        self.assertFalse(plan_day(stones(0.1), DUE - timedelta(days=1), DUE, 15).rehearsal)

    def test_strength_and_growth_are_measured(self):
        self.assertEqual(strength_of(0, 3, 80, 80, True), 1.0)
        self.assertLess(strength_of(0, 3, 40, 80, False), strength_of(0, 3, 80, 80, False))
        self.assertLess(strength_of(3, 3, 80, 80, False), 1.0)
        self.assertEqual(new_gain(0.1, 0.3, 0.0), 0.1)
        self.assertAlmostEqual(new_gain(None, 0.1, 1.0), 0.1 / (6 * (1 - 2.718281828 ** (-1 / 6))), places=6)
        self.assertLess(new_gain(0.2, -0.5, 5.0), 0.2)

    def test_a_forecast_needs_measured_days_and_says_between_which(self):
        known = stones(0.2, 0.5, gain=0.06)
        self.assertIsNone(forecast(known, MONDAY, 15, measured_days=2))
        self.assertIsNone(forecast(stones(0.2, 0.5), MONDAY, 15, measured_days=5))
        self.assertIsNone(forecast(stones(0.0, 0.0, gain=0.01), MONDAY, 1, measured_days=5), "beyond what can be told")
        found = forecast(known, MONDAY, 15, measured_days=3)
        self.assertTrue(MONDAY <= found.earliest <= found.day <= found.latest)
        resting = forecast(known, MONDAY, 15, measured_days=3, days_off={0, 1})
        self.assertGreater(resting.day, found.day)
        self.assertNotIn(resting.day.weekday(), {0, 1})
        self.assertGreaterEqual(resting.earliest, MONDAY + timedelta(days=2))
        self.assertIsNone(forecast(stones(1.0, 1.0, gain=0.1), MONDAY, 15, measured_days=3))
