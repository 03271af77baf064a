"""The butter churn."""
