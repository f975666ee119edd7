from django.urls import path

from didactor.people import account_views, picture_views, views

app_name = "people"
urlpatterns = [
    path("sign-in/", views.sign_in, name="sign_in"),
    path("found/", account_views.found, name="found"),
    path("join/<str:token>/", account_views.join, name="join"),
    path("account/", account_views.account, name="account"),
    path("account/colleagues/", account_views.colleagues, name="colleagues"),
    path("sign-in/code/", account_views.second, name="second"),
    path("account/second-factor/", account_views.set_up_second, name="set_up_second"),
    path("account/keep/", account_views.keep, name="keep"),
    path("account/sign-out-everywhere/", account_views.sign_out_everywhere, name="sign_out_everywhere"),
    path("forgotten/", account_views.forgotten, name="forgotten"),
    path("forgotten/<str:uidb64>/<str:token>/", account_views.ChoosePassword.as_view(), name="choose_password"),
    path("pictures/", picture_views.begin, name="pictures"),
    path("pictures/<slug:code>/", picture_views.names, name="pictures_of"),
    path("pictures/<slug:code>/<int:pk>/", picture_views.tap, name="pictures_tap"),
    path("account/studio-code/", picture_views.new_studio_code, name="new_studio_code"),
    path("account/sessions/", account_views.end_session, name="end_session"),
    path("account/hand-on/", account_views.hand_on, name="hand_on"),
    path("sign-out/", views.sign_out, name="sign_out"),
    path("in/<str:code>/", views.open_card, name="open_card"),
    path("paper/", views.choose_paper, name="choose_paper"),
    path("consent/", views.consent, name="consent"),
    path("students/", views.students, name="students"),
    path("students/note-names/", views.note_names, name="note_names"),
    path("students/add/", views.add_student, name="add_student"),
    path("students/add-list/", views.add_roll, name="add_roll"),
    path("students/performance/", views.performance, name="performance"),
    path("students/cards/", views.group_cards, name="group_cards"),
    path("students/<int:pk>/", views.student, name="student"),
    path("students/<int:pk>/card/", views.new_card, name="new_card"),
    path("students/<int:pk>/pictures/", picture_views.of_student, name="pictures_of_student"),
    path("students/<int:pk>/leave/", views.leave, name="leave"),
    path("students/<int:pk>/withdraw-consent/", views.withdraw_consent, name="withdraw_consent"),
]
