"""Open pages are woken when something changes, and by nothing else."""

import asyncio

from errant_gust.server import notices


def test_every_listener_is_woken_from_any_thread_and_none_after_it_left():
    async def pages():
        one, two = notices.listen(), notices.listen()
        await asyncio.to_thread(notices.changed)
        await asyncio.wait_for(asyncio.gather(one.wait(), two.wait()), 5)
        for event in (one, two):
            event.clear()
        notices.leave(two)
        await asyncio.to_thread(notices.changed)
        await asyncio.wait_for(one.wait(), 5)
        assert not two.is_set()
        notices.leave(one)

    asyncio.run(pages())
    assert not notices._waiting


def test_a_page_whose_loop_has_ended_is_forgotten():
    async def page():
        return notices.listen()

    asyncio.run(page())
    notices.changed()
    assert not notices._waiting
