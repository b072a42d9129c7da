from __future__ import annotations

import threading

from welvo.rig.kept import keep_last_two, table_of


def test_the_last_two_answers_are_kept_by_identity() -> None:
    asked: list[object] = []

    @keep_last_two
    def length(part: dict[str, int]) -> int:
        asked.append(part)
        return len(part)

    one, two, three = {"a": 1}, {"a": 1}, {"a": 1, "b": 2}
    assert [length(one), length(two), length(one), length(two)] == [1, 1, 1, 1] and len(asked) == 2
    assert length(three) == 2 and length(two) == 1 and len(asked) == 3
    assert length(one) == 1 and len(asked) == 4  # pushed out by the third


def test_a_thread_keeps_its_own_answers_and_pushes_out_nobody_elses() -> None:
    asked: list[str] = []

    @keep_last_two
    def length(part: dict[str, int]) -> int:
        asked.append(threading.current_thread().name)
        return len(part)

    mine = {"a": 1}
    length(mine)
    seen: list[dict[object, object]] = []

    def work() -> None:
        for n in range(5):
            length({"b": n})
        length(mine)
        seen.append(table_of("something", 10))

    beside = threading.Thread(target=work, name="beside")
    beside.start()
    beside.join()
    length(mine)
    assert asked == [threading.main_thread().name, *["beside"] * 6]
    assert seen[0] is not table_of("something", 10) and table_of("something", 10) is table_of("something", 10)


def test_a_table_that_grew_too_long_begins_anew() -> None:
    table_of("long", 3).update({n: n for n in range(4)})
    assert table_of("long", 3) == {}
