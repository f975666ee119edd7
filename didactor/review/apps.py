from django.apps import AppConfig


class ReviewConfig(AppConfig):
    name = "didactor.review"
    label = "review"
