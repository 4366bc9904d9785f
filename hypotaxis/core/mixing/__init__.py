"""Takes as sound beside each other: how loud, what stands where and how one gives way to another, same or different."""
