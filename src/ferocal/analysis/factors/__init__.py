"""Attribution: which factor a change is due to, and what cannot be told apart."""
