import threading
import time

from avocet.store.turns import Turns


def test_turns_are_taken_in_the_order_in_which_they_were_asked_for():
    turns, order, asking = Turns(), [], []

    def take(number):
        with turns.turn():
            order.append(number)

    with turns.turn():
        for number in range(20):
            asking.append(threading.Thread(target=take, args=(number,)))
            asking[-1].start()
            while len(turns._waiting) <= number:
                time.sleep(0.001)
    for each in asking:
        each.join(timeout=5)
    assert order == list(range(20))
    take(20)
    assert order[-1] == 20, "free again"


def test_a_turn_that_fails_is_handed_on():
    turns = Turns()
    for _ in range(2):
        try:
            with turns.turn():
                raise ValueError
        except ValueError:
            pass
    with turns.turn():
        pass
