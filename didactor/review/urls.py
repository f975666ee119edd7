from django.urls import path

from didactor.review import live_views, views

app_name = "review"
urlpatterns = [
    path("words/<int:pk>/", views.decide_words, name="decide_words"),
    path("", views.waiting, name="waiting"),
    path("at-once/", views.at_once, name="at_once"),
    path("scale/", views.set_scale, name="set_scale"),
    path("<int:pk>/", views.detail, name="detail"),
    path("<int:pk>/alongside/", views.alongside, name="alongside"),
    path("<int:pk>/marks/", views.add_remark, name="add_remark"),
    path("<int:pk>/marks/keep-all/", views.keep_all, name="keep_all"),
    path("<int:pk>/marks/<int:mark_pk>/", views.decide_mark, name="decide_mark"),
    path("live/<int:pk>/", live_views.begin, name="hear_live"),
    path("<int:pk>/live/recording/", live_views.recording, name="live_recording"),
    path("<int:pk>/live/drop/", live_views.drop, name="drop_live"),
    path("said/<int:pk>/", views.said, name="said"),
    path("<int:pk>/draft/", views.save_draft, name="save_draft"),
    path("<int:pk>/send/", views.send, name="send"),
]
